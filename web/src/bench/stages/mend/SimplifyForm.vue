<script setup lang="ts">
import { computed, ref, watch } from 'vue'
import { useBenchContext } from '@/bench/context'
import { newestReport } from '@/bench/newest'
import { countAt, meanAt, readOff, type CurvePoint } from '@/bench/stages/mend/curve'
import DeviationCurve from '@/components/DeviationCurve.vue'
import { count } from '@/composables/format'

/** Fewer triangles: by count or by how far the surface may move, with the curve of one over the other. */
const props = defineProps<{ busy: boolean; main: boolean; name: string }>()
const { bench } = useBenchContext()
const mesh = computed(() => bench.bench.value?.mesh)
/** The curve, as long as nothing changed the mesh since. */
const newest = newestReport<{ curve: CurvePoint[] }>({ bench }, 'simplify_curve')
const curve = computed(() => newest.value?.curve ?? [])
const triangles = ref(300_000)
watch(
  () => mesh.value?.triangles,
  (now) => now && (triangles.value = Math.min(triangles.value, now)),
  { immediate: true },
)
const keep = ref(false)
const told = computed(() => (curve.value.length ? readOff(curve.value, triangles.value) : null))
const mean = computed({
  get: () => (curve.value.length ? Number(meanAt(curve.value, triangles.value).toPrecision(3)) : 0),
  set: (wanted) => (triangles.value = countAt(curve.value, wanted)),
})
const run = () =>
  bench.operation(props.name, { triangles: Math.round(triangles.value), keep_texture: keep.value })
</script>

<template>
  <form class="card-form" data-test="simplify" @submit.prevent="run">
    <DeviationCurve v-if="curve.length" v-model="triangles" :curve="curve" />
    <p v-else class="quiet" role="status">
      The curve tells what every number of triangles would cost the shape. It takes a minute on a fine mesh.
      <button
        type="button"
        class="link"
        :disabled="busy"
        data-test="make-curve"
        @click="bench.operation('simplify_curve')"
      >
        Work it out
      </button>
    </p>
    <label class="field"
      ><span
        >Triangles<small>of {{ count(mesh?.triangles ?? 0) }}</small></span
      ><input
        v-model.number="triangles"
        type="number"
        min="4"
        :max="mesh?.triangles"
        step="1"
        data-test="triangles"
    /></label>
    <label v-if="curve.length" class="field"
      ><span>Moves by, in the mean<small>mm; either sets the other</small></span
      ><input v-model.lazy.number="mean" type="number" min="0" step="any" data-test="mean"
    /></label>
    <p v-if="told" role="status" data-test="told">
      95&#8201;% within {{ told.p95_mm.toFixed(3) }}&#8201;mm, the farthest about
      {{ told.max_mm.toFixed(2) }}&#8201;mm.
    </p>
    <label v-if="mesh?.textured" class="field"
      ><span>Keep texture<small>with its seams in place</small></span
      ><input v-model="keep" type="checkbox"
    /></label>
    <button :class="main ? 'main-button' : 'plain-button'" :disabled="busy" type="submit">Simplify</button>
  </form>
</template>

<style scoped>
p {
  margin: 0;
}
input[type='number'] {
  width: 104px;
}
</style>
