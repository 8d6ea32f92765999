<script setup lang="ts">
import Slider from 'primevue/slider'
import { computed, onBeforeUnmount, onMounted } from 'vue'
import { useBenchContext } from '@/bench/context'
import { usePointsMode } from '@/bench/usePointsMode'
import { markingPart } from '@/bench/marks/marking'
import { MARK_CARD, MARK_TOOLS } from '@/bench/marks/tools'
import { count, percent, THIN } from '@/composables/format'

/** Marking by hand, and what is done with what is marked. */
defineProps<{ busy: boolean; main: boolean }>()
const context = useBenchContext()
const { view, live } = context
const marks = markingPart(context)
const { strokes, invert, adding, through, any, counted, figures, tips } = marks

const TIPS = {
  brush: { tip: 'brush', title: 'Brush', unit: 'px', low: 2, high: 120, step: 1 },
  ball: { tip: 'ball', title: 'Ball', unit: 'mm', low: 0.2, high: 40, step: 0.2 },
  joined: { tip: 'gap', title: 'Gap', unit: 'mm', low: 0.1, high: 20, step: 0.1 },
} as const
const tip = computed(() => TIPS[view.tool.value?.name as keyof typeof TIPS])
const said = computed(() => {
  const { marked, points, area_cm2 } = figures.value
  const share = points ? ` · ${percent(marked / points)}` : ''
  return `${count(marked)} · ${area_cm2.toFixed(area_cm2 < 10 ? 2 : 1)}${THIN}cm²${share}`
})
usePointsMode(context)
onMounted(() => {
  marks.active.value = true
  if (view.tool.value?.card !== MARK_CARD) view.use(MARK_TOOLS[0])
})
onBeforeUnmount(() => {
  marks.active.value = false
  if (view.tool.value?.card === MARK_CARD) view.use(null)
})
</script>

<template>
  <form class="card-form" data-test="mark-form" @submit.prevent="marks.use('take_away')">
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
    <div v-if="any" role="status" data-test="mark-figures">
      <dl class="figures">
        <dt>{{ invert ? 'Marked, turned round' : 'Marked' }}</dt>
        <dd class="num marked">{{ counted ? said : '…' }}</dd>
        <template v-for="p in figures.passes.length > 1 ? figures.passes : []" :key="p.pass">
          <dt>{{ p.pass }}</dt>
          <dd class="num">{{ count(p.marked) }}</dd>
        </template>
      </dl>
    </div>
    <p v-else class="quiet" role="status">
      Nothing is marked. Draw in the view with a tool from the strip; arrow keys move a cursor, Enter puts the
      tool down.
    </p>
    <p v-if="live.refused.value" class="quiet" role="status">{{ live.refused.value }}</p>
    <div class="acts">
      <button type="button" class="plain-button" data-test="mark-invert" @click="invert = !invert">
        Turn round <kbd class="key">/</kbd>
      </button>
      <button
        type="button"
        class="plain-button"
        :disabled="!strokes.length"
        title="Key Backspace"
        @click="marks.stepBack"
      >
        Step back <kbd class="key">⌫</kbd>
      </button>
      <button type="button" class="plain-button" :disabled="!any" @click="marks.clear">Clear</button>
    </div>
    <div class="acts">
      <button
        type="button"
        class="plain-button"
        :disabled="busy || !any"
        title="Take all else of the shown passes away"
        data-test="keep-only"
        @click="marks.use('keep_only')"
      >
        Keep only this
      </button>
      <button
        type="button"
        class="plain-button"
        :disabled="busy || !any"
        title="Align by it, and leave it out of the surface"
        data-test="set-aside"
        @click="marks.use('set_aside')"
      >
        Set aside
      </button>
    </div>
    <button
      :class="main ? 'main-button' : 'plain-button'"
      :disabled="busy || !any"
      type="submit"
      data-test="take-marked"
    >
      Take away
    </button>
  </form>
</template>

<style scoped>
.pairs,
.acts {
  display: flex;
  gap: 6px;
}
.pairs > *,
.acts > * {
  flex: 1 1 auto;
  min-width: 0;
  white-space: nowrap;
  padding-inline: 3px;
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
.marked {
  color: var(--mark);
}
</style>
