<script setup lang="ts">
import Select from 'primevue/select'
import { ref, watch } from 'vue'
import type { Catalogue } from '@/api/client'

const props = defineProps<{
  recipes: Catalogue['recipes']
  /** Of operations, by their names. */
  titles?: Record<string, string>
  busy: boolean
  ready: boolean
  main: boolean
}>()
const told = ref(false)
const emit = defineEmits<{ run: [string] }>()
const chosen = ref(props.recipes[0])
watch(
  () => props.recipes,
  (r) => (chosen.value = r.find((x) => x.name === chosen.value?.name) ?? r[0]),
)
const run = () => chosen.value && emit('run', chosen.value.name)
defineExpose({ run })
</script>

<template>
  <section class="recipe">
    <p><b>All in one go</b> <kbd class="key">R</kbd></p>
    <div>
      <Select v-model="chosen" :options="recipes" option-label="title" size="small" aria-label="Recipe" />
      <button
        :class="main ? 'main-button' : 'plain-button'"
        :disabled="busy || !ready"
        data-test="run-recipe"
        @click="run"
      >
        Run recipe
      </button>
    </div>
    <p class="quiet">
      {{ chosen?.help }}
      <button v-if="chosen" class="link" :aria-expanded="told" data-test="recipe-told" @click="told = !told">
        {{ chosen.steps.length }} steps
      </button>
    </p>
    <p v-if="told && chosen" class="quiet steps">
      {{ chosen.steps.map((s) => titles?.[s.operation] ?? s.operation).join(' → ') }}
    </p>
  </section>
</template>

<style scoped>
.recipe {
  padding: 9px 16px;
  border-top: var(--hair);
  background: var(--paper);
}
p:first-child {
  display: flex;
  justify-content: space-between;
}
div {
  display: flex;
  gap: 8px;
  margin: 5px 0 3px;
}
div > :first-child {
  flex: 1;
}
.quiet {
  font-size: 12px;
}
</style>
