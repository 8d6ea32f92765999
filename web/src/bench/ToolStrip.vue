<script setup lang="ts">
import { computed } from 'vue'
import { useBenchContext } from '@/bench/context'
import { stageOf } from '@/bench/stages'

const context = useBenchContext()
const { bench, view, stage } = context
const tools = computed(() =>
  bench.lookOnly.value ? [] : (stageOf(stage.value).tools ?? []).filter((t) => t.wanted?.(context) ?? true),
)
/** Tools that belong to one card stand together, and so do those that belong to none. */
const groups = computed(() => {
  const cards = [...new Set(tools.value.map((t) => t.card))]
  const all = cards.map((card) => tools.value.filter((t) => t.card === card))
  // Single ones of different cards share a strip.
  const single = all.filter((group) => group.length === 1).flat()
  return [...(single.length ? [single] : []), ...all.filter((group) => group.length > 1)]
})
</script>

<template>
  <div
    v-for="group in groups"
    :key="group[0].name"
    class="modes tools"
    role="group"
    aria-label="Tools of the stage"
  >
    <button
      v-for="t in group"
      :key="t.name"
      :aria-pressed="view.tool.value?.name === t.name"
      :title="t.hint"
      :data-test="`tool-${t.name}`"
      @click="view.use(t)"
    >
      {{ t.title }} <kbd class="key">{{ t.key }}</kbd>
    </button>
  </div>
</template>

<style scoped>
.tools {
  margin-top: 6px;
}
.tools button {
  display: flex;
  gap: 7px;
  align-items: center;
}
</style>
