<script setup lang="ts">
import { ref } from 'vue'
import type { BranchView } from '@/api/client'

/** The branches of a run sheet. */
defineProps<{ branches: BranchView[]; busy: boolean; comparing: boolean }>()
const emit = defineEmits<{
  go: [number]
  name: [number, string]
  throwAway: [number]
  compare: [BranchView]
  close: []
}>()
const naming = ref(0)
const words = ref('')
function begin(branch: BranchView) {
  naming.value = branch.id
  words.value = branch.name
}
function done(branch: BranchView) {
  const name = words.value.trim()
  naming.value = 0
  if (name && name !== branch.name) emit('name', branch.id, name)
}
const apart = (b: BranchView) =>
  `${b.own} of ${b.steps} ${b.steps === 1 ? 'step' : 'steps'} of its own${b.parts_at ? `, from “${b.parts_at}” on` : ''}`
</script>

<template>
  <section class="branches" aria-label="Branches" data-test="branch-list">
    <header>
      <b>Branches</b
      ><button class="link" aria-label="Close the list of branches" @click="emit('close')">×</button>
    </header>
    <ul>
      <li v-for="b in branches" :key="b.id" :class="{ current: b.current }" data-test="branch">
        <form v-if="naming === b.id" @submit.prevent="done(b)">
          <input
            v-model="words"
            class="text-entry"
            maxlength="60"
            aria-label="Name of the branch"
            data-test="branch-name"
            @keydown.escape.stop="naming = 0"
          /><button class="link">Keep</button>
        </form>
        <b v-else>{{ b.name }}</b>
        <p class="quiet">{{ b.current ? `worked on, ${b.steps} steps` : apart(b) }}</p>
        <span class="acts">
          <button
            v-if="!b.current"
            class="link"
            :disabled="busy"
            data-test="go-to-branch"
            @click="emit('go', b.id)"
          >
            Go there
          </button>
          <button
            v-if="!b.current && b.surface"
            class="link"
            :aria-pressed="comparing"
            data-test="compare-branch"
            @click="emit('compare', b)"
          >
            Compare
          </button>
          <button class="link" :aria-label="`Name ${b.name}`" @click="begin(b)">Name</button>
          <button
            v-if="!b.current"
            class="link loss"
            data-test="throw-branch-away"
            @click="emit('throwAway', b.id)"
          >
            Throw away
          </button>
        </span>
      </li>
    </ul>
  </section>
</template>

<style scoped>
.branches {
  border-top: var(--hair);
  background: var(--sheet);
  padding: 6px 14px 8px;
  overflow: auto;
  max-height: 44%;
  flex: none;
}
header {
  display: flex;
  justify-content: space-between;
}
ul {
  list-style: none;
  margin: 0;
  padding: 0;
}
li {
  padding: 4px 0 4px 9px;
  border-left: 2px solid var(--rule);
  margin-bottom: 3px;
}
li.current {
  border-color: var(--verdigris);
}
li b {
  font-weight: 500;
}
p {
  font-size: 12px;
}
form {
  display: flex;
  gap: 6px;
}
form input {
  flex: 1;
  min-width: 0;
}
.acts {
  display: flex;
  flex-wrap: wrap;
  gap: 0 11px;
}
.loss {
  color: var(--oxblood);
}
</style>
