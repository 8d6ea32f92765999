<script setup lang="ts">
import { computed, onBeforeUnmount, onMounted } from 'vue'
import { useBenchContext } from '@/bench/context'
import { usePointsMode } from '@/bench/usePointsMode'
import MarkStrokes from '@/bench/marks/MarkStrokes.vue'
import { markingPart } from '@/bench/marks/marking'
import { MARK_CARD, MARK_TOOLS } from '@/bench/marks/tools'
import { count, percent, THIN } from '@/composables/format'

/** Marking by hand, and what is done with what is marked. */
defineProps<{ busy: boolean; main: boolean }>()
const context = useBenchContext()
const { view, live } = context
const marks = markingPart(context)
const { strokes, invert, any, counted, figures } = marks

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
    <MarkStrokes />
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
.acts {
  display: flex;
  gap: 6px;
}
.acts > * {
  flex: 1 1 auto;
  min-width: 0;
  white-space: nowrap;
  padding-inline: 3px;
}
.marked {
  color: var(--mark);
}
</style>
