<script setup lang="ts">
import Slider from 'primevue/slider'
import { computed } from 'vue'
import { useBenchContext } from '@/bench/context'
import { markingPart } from '@/bench/marks/marking'

/** What holds for all strokes: whether they add, how deep they go, and the size of the tip. */
const context = useBenchContext()
const { view } = context
const { adding, through, tips } = markingPart(context)
const TIPS = {
  brush: { tip: 'brush', title: 'Brush', unit: 'px', low: 2, high: 120, step: 1 },
  ball: { tip: 'ball', title: 'Ball', unit: 'mm', low: 0.2, high: 40, step: 0.2 },
  joined: { tip: 'gap', title: 'Gap', unit: 'mm', low: 0.1, high: 20, step: 0.1 },
} as const
const tip = computed(() => TIPS[(view.tool.value?.name ?? '').split('-').pop() as keyof typeof TIPS])
</script>

<template>
  <div class="pairs">
    <div role="group" aria-label="Strokes" class="pair">
      <button type="button" :aria-pressed="adding" @click="adding = true">Add</button
      ><button type="button" :aria-pressed="!adding" title="Key -" @click="adding = false">
        Take out <kbd class="key">-</kbd>
      </button>
    </div>
    <div role="group" aria-label="Depth" class="pair">
      <button type="button" :aria-pressed="!through" @click="through = false">Seen</button
      ><button
        type="button"
        :aria-pressed="through"
        title="Through the object. Key ="
        data-test="through"
        @click="through = true"
      >
        Through <kbd class="key">=</kbd>
      </button>
    </div>
  </div>
  <div v-if="tip" class="tip">
    <label for="mark-tip">{{ tip.title }}</label>
    <Slider
      id="mark-tip"
      v-model="tips[tip.tip]"
      :min="tip.low"
      :max="tip.high"
      :step="tip.step"
      :aria-label="`${tip.title} in ${tip.unit}`"
    />
    <span class="num">{{ tips[tip.tip] }}&#8201;{{ tip.unit }}</span>
  </div>
</template>

<style scoped>
.pairs {
  display: flex;
  gap: 6px;
}
.pairs > * {
  flex: 1 1 auto;
  min-width: 0;
  white-space: nowrap;
}
.pair {
  display: flex;
  padding: 0;
  border: var(--hair);
  border-radius: var(--radius);
  overflow: hidden;
}
.pair button {
  flex: 1;
  border: 0;
  padding: 5px 3px;
  background: none;
  cursor: pointer;
}
.pair button[aria-pressed='true'] {
  background: var(--ink);
  color: var(--sheet);
}
.tip {
  display: grid;
  grid-template-columns: 52px 1fr 62px;
  gap: 12px;
  align-items: center;
}
.tip .num {
  text-align: right;
}
</style>
