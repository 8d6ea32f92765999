<script setup lang="ts">
import { computed } from 'vue'
import type { ParameterView } from '@/api/client'
import { words } from '@/bench/worksheet/fields'

/** What a hand drew in the view: kept, told in words, and taken off here. */
const props = defineProps<{ parameter: ParameterView }>()
const value = defineModel<unknown>()
const summary = computed(() => {
  const strokes = (value.value as { strokes?: unknown[] } | null)?.strokes
  if (!value.value) return 'nothing drawn'
  if (strokes) return strokes.length === 1 ? 'one stroke' : `${strokes.length} strokes`
  return `a ${props.parameter.kind} drawn in the view`
})
</script>

<template>
  <div class="drawn" role="group" :aria-label="words(parameter.name)">
    <span class="quiet">{{ summary }}</span>
    <button v-if="value" type="button" class="link" @click="value = null">Take off</button>
  </div>
</template>

<style scoped>
.drawn {
  display: flex;
  justify-content: space-between;
}
</style>
