<script setup lang="ts">
import { computed } from 'vue'
import type { ParameterView } from '@/api/client'
import { words } from '@/bench/worksheet/fields'

const props = defineProps<{ parameter: ParameterView; titles: string[] }>()
const value = defineModel<string[] | null>()
const chosen = computed(() => value.value ?? props.titles)

function flip(title: string) {
  const now = props.titles.filter((t) => chosen.value.includes(t) !== (t === title))
  // All of them is the same as naming none, and stays so when a pass is added.
  value.value = now.length === props.titles.length || !now.length ? null : now
}
</script>

<template>
  <div class="passes" role="group" :aria-label="words(parameter.name)">
    <button
      v-for="title in titles"
      :key="title"
      type="button"
      :aria-pressed="chosen.includes(title)"
      @click="flip(title)"
    >
      {{ title }}
    </button>
  </div>
</template>

<style scoped>
.passes {
  display: flex;
  flex-wrap: wrap;
  gap: 6px;
}
button {
  border: var(--hair);
  border-radius: var(--radius);
  background: var(--sheet);
  color: var(--ink-2);
  padding: 3px 9px;
  cursor: pointer;
}
button[aria-pressed='true'] {
  background: var(--ink);
  color: var(--sheet);
}
</style>
