<script setup lang="ts">
import Slider from 'primevue/slider'
import { computed, onBeforeUnmount, onMounted, reactive, watch } from 'vue'
import { useBenchContext } from '@/bench/context'
import { usePointsMode } from '@/bench/usePointsMode'
import { shownTitles } from '@/bench/useView'
import PieceBars from '@/components/PieceBars.vue'
import { fieldOf, inLabel, words } from '@/bench/worksheet/fields'
import { count, percent } from '@/composables/format'
import type { PieceFigures } from '@/components/pieces'

/** The numbers of an operation that takes points away, with what would go marked in the view while they change. */
const props = defineProps<{ busy: boolean; main: boolean; name: string }>()
const context = useBenchContext()
const { bench, view, live } = context
const operation = computed(() => bench.catalogue.value!.operations.find((o) => o.name === props.name)!)
const titles = computed(() => (bench.bench.value?.passes ?? []).map((p) => p.title))
const fields = computed(() => operation.value.parameters.filter((p) => !['passes', 'keep'].includes(p.name)))
/** How far a slider reaches, where one helps; the field takes more. */
const REACH: Record<string, number> = { gap_mm: 10, margin_mm: 5, least_percent: 20, pixels: 12 }
const values = reactive<Record<string, unknown>>({})
/** Of a step that is being changed: what it was done with. */
const before = bench.changed.value?.operation === props.name ? bench.changed.value.parameters : {}
operation.value.parameters.forEach(
  (p) => (values[p.name] = (before as Record<string, unknown>)[p.name] ?? p.default),
)

const shown = computed(() => shownTitles(bench.bench.value?.passes ?? [], view.hidden.value))
const takesPasses = computed(() => operation.value.parameters.some((p) => p.name === 'passes'))
const parameters = computed(() => ({ ...values, ...(takesPasses.value ? { passes: shown.value } : {}) }))
const figures = computed(
  () =>
    live.preview.value?.figures as
      | {
          points_before: number
          points_after: number
          largest?: PieceFigures[]
          pieces?: number
          gap_mm?: number
          margin_mm?: number
        }
      | undefined,
)
const goes = computed(() => (figures.value ? figures.value.points_before - figures.value.points_after : 0))
const found = computed(() => figures.value?.gap_mm ?? figures.value?.margin_mm)
/** Keep a piece that would go, or let it go again. */
function keep(piece: PieceFigures) {
  const kept = values.keep as number[][]
  const same = kept.findIndex((at) => at.every((v, k) => v === piece.at[k]))
  values.keep = same < 0 ? [...kept, piece.at] : kept.filter((_, n) => n !== same)
}
watch(parameters, (now) => live.show(props.name, now))
usePointsMode(context)
onMounted(() => {
  live.show(props.name, parameters.value)
})
onBeforeUnmount(() => {
  live.hide(props.name)
})
</script>

<template>
  <form
    class="card-form"
    :data-test="`previewed-${name}`"
    @submit.prevent="bench.operation(name, parameters)"
  >
    <template v-for="p in fields" :key="p.name">
      <component :is="inLabel(p) ? 'label' : 'div'" class="field" :title="p.help">
        <span
          >{{ words(p.name) }}<small>{{ p.help }}</small></span
        >
        <component :is="fieldOf(p)" v-model="values[p.name]" :parameter="p" :titles="titles" />
      </component>
      <Slider
        v-if="REACH[p.name]"
        v-model="values[p.name] as number"
        :min="p.low ?? 0"
        :max="REACH[p.name]"
        :step="p.kind === 'whole' ? 1 : 0.05"
        :aria-label="`${words(p.name)} in ${p.unit}`"
      />
    </template>
    <PieceBars v-if="figures?.largest" :pieces="figures.largest" :total="figures.pieces ?? 0" @keep="keep" />
    <div v-if="figures" role="status" data-test="would-go">
      <dl class="figures">
        <template v-if="found !== undefined">
          <dt>{{ figures.gap_mm !== undefined ? 'Gap' : 'Margin' }}</dt>
          <dd class="num">{{ found.toFixed(2) }}&#8201;mm</dd>
        </template>
        <dt>Would go</dt>
        <dd class="num marked">
          {{ count(goes) }} · {{ percent(goes / Math.max(figures.points_before, 1)) }}
        </dd>
      </dl>
    </div>
    <p v-if="live.refused.value" class="quiet" role="status">{{ live.refused.value }}</p>
    <p v-else-if="!figures" class="quiet" role="status">Looking at what would go…</p>
    <button :class="main ? 'main-button' : 'plain-button'" :disabled="busy" type="submit">
      {{ operation.title }}
    </button>
  </form>
</template>

<style scoped>
.field > :last-child {
  flex: none;
}
.marked {
  color: var(--mark);
}
</style>
