<script setup lang="ts">
import InputNumber from 'primevue/inputnumber'
import Slider from 'primevue/slider'
import { computed, onBeforeUnmount, onMounted } from 'vue'
import { useBenchContext } from '@/bench/context'
import { usePointsMode } from '@/bench/usePointsMode'
import { stageOf } from '@/bench/stages'
import { standCut, type CutFigures } from '@/bench/stages/clean/standCut'
import { count, mm, percent } from '@/composables/format'

defineProps<{ busy: boolean; main: boolean }>()
const context = useBenchContext()
const { view, live } = context
const cut = context.part('standCut', standCut)
const tools = () => stageOf('clean').tools!
const HIGHEST_MM = 15

const edit = computed(() => cut.edits[cut.chosen.value])
const goes = computed(() => cut.before.value - cut.after.value)
const height = computed(() => (cut.current.value?.by === 'found' ? mm(cut.current.value.above_mm, 2) : ''))
const words = (p: CutFigures) =>
  p.by === 'none'
    ? 'no plate found'
    : { found: `plate found, cut ${mm(p.above_mm, 2)} above`, hand: 'plane by hand', line: 'on your line' }[
        p.by
      ]
const hueOf = (title: string) => {
  const n = context.bench.bench.value?.passes.findIndex((p) => p.title === title) ?? 0
  return `var(--pass-${(n % 6) + 1})`
}
usePointsMode(context)
onMounted(() => {
  cut.active.value = true
  if (view.tool.value?.card !== 'stand_cut') view.use(tools()[0])
})
onBeforeUnmount(() => {
  cut.active.value = false
  if (view.tool.value?.card === 'stand_cut') view.use(null)
})
</script>

<template>
  <form class="card-form" data-test="stand-cut" @submit.prevent="cut.use">
    <ul>
      <li v-for="p in cut.figures.value" :key="p.pass" :class="{ chosen: p.pass === cut.chosen.value }">
        <label :title="p.why">
          <input
            type="radio"
            name="cut-pass"
            :value="p.pass"
            :checked="p.pass === cut.chosen.value"
            :disabled="p.by === 'none'"
            @change="cut.chosen.value = p.pass"
          />
          <i :style="{ background: hueOf(p.pass) }" />
          <span class="name"
            ><b>{{ p.pass }}</b
            ><small>{{ words(p) }}</small></span
          >
          <span class="num marked">−{{ count(p.points_before - p.points_after) }}</span>
        </label>
        <p v-if="p.why" class="quiet why">{{ p.why }}</p>
      </li>
    </ul>
    <div class="field">
      <label for="cut-above">Above plate</label>
      <Slider
        v-model="cut.above.value"
        :min="0"
        :max="HIGHEST_MM"
        :step="0.05"
        aria-label="Above plate in millimetres"
      />
      <InputNumber
        v-model="cut.above.value"
        input-id="cut-above"
        :min="-50"
        :max="50"
        :max-fraction-digits="2"
        :suffix="'\u2009mm'"
        locale="en-GB"
        size="small"
        :input-style="{ width: '82px' }"
        :title="height ? `0 finds it: ${height}` : ''"
      />
    </div>
    <div v-if="cut.chosen.value" class="three">
      <label
        v-for="[name, title, unit, most] in [
          ['push', 'Push', 'mm', 1000],
          ['along', 'Tilt ↔', '°', 85],
          ['across', 'Tilt ↕', '°', 85],
        ] as const"
        :key="name"
        ><span>{{ title }}</span>
        <InputNumber
          :model-value="edit?.[name] ?? 0"
          :min="-most"
          :max="most"
          :max-fraction-digits="2"
          :suffix="`\u2009${unit}`"
          locale="en-GB"
          size="small"
          :input-style="{ width: '100%' }"
          @update:model-value="(v: number) => cut.change({ [name]: v ?? 0 })"
      /></label>
    </div>
    <dl v-if="cut.figures.value.length" class="figures" data-test="cut-figures">
      <dt>Points</dt>
      <dd class="num">{{ count(cut.before.value) }} → {{ count(cut.after.value) }}</dd>
      <dt>Would go</dt>
      <dd class="num marked">{{ count(goes) }} · {{ percent(goes / Math.max(cut.before.value, 1)) }}</dd>
    </dl>
    <p v-if="live.refused.value" class="quiet" role="status">{{ live.refused.value }}</p>
    <p v-else-if="live.state.value !== 'up'" class="quiet" role="status">
      The preview is coming back. The cut can be made meanwhile.
    </p>
    <p v-else-if="!cut.figures.value.length" class="quiet" role="status">Looking for the plate…</p>
    <div class="acts">
      <button type="button" class="plain-button" @click="view.use(tools()[1])">
        Draw line <kbd class="key">J</kbd>
      </button>
      <button type="button" class="plain-button" :disabled="!cut.chosen.value" @click="cut.flip">Flip</button>
      <button type="button" class="plain-button" :disabled="!cut.touched.value" @click="cut.reset">
        Reset
      </button>
    </div>
    <button
      :class="main ? 'main-button' : 'plain-button'"
      :disabled="busy"
      type="submit"
      data-test="take-away"
    >
      Take away
    </button>
  </form>
</template>

<style scoped>
li > label {
  display: grid;
  grid-template-columns: 14px 10px 1fr auto;
  gap: 8px;
  align-items: center;
  padding: 4px 6px;
  border-radius: var(--radius);
  cursor: pointer;
}
li.chosen > label {
  background: var(--sheet);
}
li i {
  width: 10px;
  height: 18px;
  border-radius: 2px;
}
input[type='radio'] {
  margin: 0;
  accent-color: var(--verdigris);
}
.name b {
  display: block;
  font-weight: 500;
  line-height: 1.15;
}
small {
  color: var(--ink-2);
  font-size: 11.5px;
}
.why {
  margin: 0 6px 4px 32px;
  font-size: 12px;
}
.marked {
  color: var(--mark);
}
.field {
  display: grid;
  grid-template-columns: 76px 1fr auto;
  gap: 12px;
  align-items: center;
}
.three {
  display: grid;
  grid-template-columns: repeat(3, minmax(0, 1fr));
  gap: 8px;
}
.three span {
  display: block;
  font-size: 12px;
  color: var(--ink-2);
}
.acts {
  display: flex;
  gap: 8px;
}
.acts > * {
  flex: 1;
  padding-inline: 6px;
  white-space: nowrap;
}
</style>
