<script setup lang="ts">
import InputText from 'primevue/inputtext'
import Select from 'primevue/select'
import { computed, toRef, watch } from 'vue'
import type { CapturePlan, InstrumentView } from '@/api/client'
import type { SuggestedPass } from '@/bench/stages/capture/sheetHandle'
import type { SightFigures } from '@/bench/stages/capture/sight'
import { HOLDS, STEERED, SWEEPS, USES } from '@/bench/stages/capture/choices'
import { POSES, SHOTS, tidy, useSetUp } from '@/bench/stages/capture/setUp'
import NamedSetUps from '@/bench/stages/capture/NamedSetUps.vue'
import PassCost from '@/bench/stages/capture/PassCost.vue'
import SetUpNumber from '@/bench/stages/capture/SetUpNumber.vue'
import { useCountdown } from '@/composables/useCountdown'

const props = defineProps<{
  passes: number
  busy: boolean
  instruments: InstrumentView[]
  last: Partial<CapturePlan>
  looking: boolean
  figures: SightFigures | null
  /** The range gate as it was moved in the preview. */
  gate?: [number, number] | null
  /** By what the pass is to be held, as it was asked for beside the preview. */
  held?: { by: 'axis' | 'markers' } | null
  /** A pass that was chosen of those that coverage suggests. */
  suggested?: SuggestedPass | null
  /** Who else drives an instrument, by its name. */
  drivers?: Record<string, { driver: string; asked: boolean }>
}>()
const emit = defineEmits<{ start: [CapturePlan]; look: []; change: [CapturePlan]; ask: [string] }>()

const tables = computed(() => props.instruments)
const byHand = computed(() => sheet.value?.kind === 'hand')
const { pose, set, sheet, plan, exposures, choose, take, suggest } = useSetUp(
  tables,
  toRef(props, 'passes'),
  toRef(props, 'last'),
)
/** In place of no path: a select takes an empty value for nothing chosen. */
const ONE_TURN = 'one turn'
const ways = computed(() =>
  sheet.value?.kind === 'line'
    ? [{ label: 'Sweeps', value: SHOTS }]
    : [
        { label: 'One turn', value: ONE_TURN },
        ...(sheet.value?.paths ?? []).map((p) => ({ label: p, value: p })),
        { label: 'Single shots', value: SHOTS },
      ],
)
const holds = computed(() => (byHand.value ? HOLDS.slice(1) : HOLDS))
const heldBy = computed(() => (byHand.value && set.heldBy === 'axis' ? 'shape' : set.heldBy))
const step = computed(() => +(360 / set.stops).toFixed(1))
watch(
  () => props.gate,
  (moved) => moved && ([set.near, set.far] = moved),
)
watch(
  () => props.held,
  (asked) => asked && (set.heldBy = asked.by),
)
watch(
  () => props.suggested,
  (one) => one && suggest(one),
  { immediate: true },
)
watch(plan, (now) => emit('change', now), { immediate: true })
const justRight = () => (set.exposure = tidy(props.figures?.just_right_ms ?? set.exposure))
const countdown = useCountdown(() => set.instrument && emit('start', plan.value))
const start = () => !props.busy && countdown.start(set.delay)
defineExpose({ start })
</script>

<template>
  <section class="block" data-test="capture-sheet">
    <form @submit.prevent="start">
      <h3>
        New pass <kbd class="key">N</kbd>
        <NamedSetUps :plan="plan" @take="take" />
      </h3>
      <label class="beside"
        ><span>Instrument</span
        ><Select
          :model-value="set.instrument"
          :options="tables"
          option-label="title"
          option-value="name"
          size="small"
          aria-label="Instrument"
          data-test="instrument"
          @update:model-value="choose"
      /></label>
      <p v-if="drivers?.[set.instrument]" class="row" data-test="driven">
        <span class="quiet">{{ drivers[set.instrument].driver }} drives it; you may watch</span>
        <span v-if="drivers[set.instrument].asked" class="quiet">asked</span>
        <button v-else type="button" class="link" @click="emit('ask', set.instrument)">Ask for it</button>
      </p>
      <label class="beside"
        ><span>Name</span><InputText v-model="set.title" size="small" maxlength="60" required
      /></label>
      <label class="beside"
        ><span>It is</span><Select v-model="pose" :options="POSES" option-label="label" size="small"
      /></label>
      <template v-if="byHand">
        <label class="beside"
          ><span>Head</span
          ><Select
            :model-value="set.sweep || STEERED"
            :options="SWEEPS"
            option-label="label"
            option-value="value"
            size="small"
            aria-label="Head"
            data-test="sweep"
            @update:model-value="(to) => (set.sweep = to === STEERED ? '' : to)"
        /></label>
        <label class="beside"
          ><span>Enough for</span
          ><Select
            v-model="set.use"
            :options="USES"
            option-label="label"
            option-value="value"
            size="small"
            aria-label="Enough for"
        /></label>
      </template>
      <label v-else class="beside"
        ><span>Path</span
        ><Select
          :model-value="set.path || ONE_TURN"
          :options="ways"
          option-label="label"
          option-value="value"
          size="small"
          aria-label="Path"
          @update:model-value="(to) => (set.path = to === ONE_TURN ? '' : to)"
      /></label>
      <template v-if="!set.path && !byHand">
        <SetUpNumber v-model="set.stops" :label="`Stops, ${step}°`" :low="3" :high="72" />
        <SetUpNumber v-model="set.start" label="Starts at" :low="0" :high="359" unit="°" />
      </template>
      <label v-if="!set.path || byHand" class="beside"
        ><span>Held by</span
        ><Select
          :model-value="heldBy"
          :options="holds"
          option-label="label"
          option-value="value"
          size="small"
          aria-label="Held by"
          data-test="held-by"
          @update:model-value="(to) => (set.heldBy = to)"
      /></label>
      <SetUpNumber v-if="!byHand" v-model="set.elevation" label="Looks down" :low="-10" :high="80" unit="°" />
      <SetUpNumber
        v-model="set.exposure"
        :label="set.merged ? 'Shortest' : 'Exposure'"
        :low="sheet?.exposure_ms[0] ?? 0"
        :high="sheet?.exposure_ms[2] ?? 64"
        unit=" ms"
      />
      <p v-if="figures?.just_right_ms" class="row">
        <span class="quiet">Most would answer at {{ tidy(figures.just_right_ms) }} ms</span>
        <button type="button" class="link" data-test="just-right" @click="justRight">Just right</button>
      </p>
      <div class="ticks">
        <label class="ticked"><input v-model="set.merged" type="checkbox" /> Several exposures</label>
        <label v-if="sheet?.infrared" class="ticked"
          ><input v-model="set.infrared" type="checkbox" /> Infrared</label
        >
        <label class="ticked"
          ><input v-model="set.gated" type="checkbox" data-test="gated" /> Range gate</label
        >
        <label class="ticked"><input v-model="set.colour" type="checkbox" /> Colour</label>
      </div>
      <p v-if="set.merged" class="quiet num">{{ exposures.join(', ') }} ms, merged at every stop</p>
      <template v-if="set.gated">
        <SetUpNumber v-model="set.near" label="Nearest" :low="0" :high="5000" unit=" mm" />
        <SetUpNumber v-model="set.far" label="Farthest" :low="0" :high="5000" unit=" mm" />
      </template>
      <SetUpNumber v-model="set.spacing" label="Spacing" :low="0" :high="20" unit=" mm" />
      <SetUpNumber v-model="set.delay" label="Delay" :low="0" :high="120" unit=" s" />
      <PassCost v-if="figures?.minutes != null" :figures="figures" :by-hand="byHand" />
      <div class="two">
        <button
          type="button"
          class="plain-button"
          :aria-pressed="looking"
          data-test="look"
          @click="emit('look')"
        >
          {{ looking ? 'Put away' : 'Look' }} <kbd class="key">V</kbd>
        </button>
        <button class="main-button" :disabled="busy" type="submit" data-test="start-pass">
          {{ countdown.left.value ? `Starts in ${countdown.left.value}, stop` : 'Start pass' }}
        </button>
      </div>
    </form>
  </section>
</template>

<style scoped>
.block {
  border-bottom: var(--hair);
}
.two {
  position: sticky;
  bottom: 0;
  display: flex;
  gap: 8px;
  padding: 6px 0;
  background: var(--paper);
}
.two > * {
  flex: 1;
}
form {
  display: flex;
  flex-direction: column;
  gap: 6px;
  padding: 10px 16px 12px;
  background: var(--paper);
}
h3 {
  display: flex;
  align-items: center;
  gap: 8px;
  font-size: 14px;
  font-weight: 500;
}
.ticks {
  display: grid;
  grid-template-columns: 1.5fr 1fr;
}
.ticks .ticked {
  gap: 7px;
}
.row {
  display: flex;
  justify-content: space-between;
}
</style>
