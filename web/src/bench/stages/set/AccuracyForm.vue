<script setup lang="ts">
import { computed, onBeforeUnmount, onMounted, watch } from 'vue'
import { useBenchContext } from '@/bench/context'
import { accuracyPart } from '@/bench/stages/set/accuracy'
import DeviationBars from '@/components/DeviationBars.vue'
import { percent } from '@/composables/format'

/** How sure the surface is: by what the frames say of each place, and by two fusions of half of them. */
const props = defineProps<{ busy: boolean; main: boolean; name: string }>()
const context = useBenchContext()
const { bench, view } = context
const part = accuracyPart(context)
const { told, shown, loading, fault } = part
const framed = computed(() => (bench.bench.value?.passes ?? []).filter((p) => p.placed && !p.off && p.frames))
const run = () => bench.operation(props.name, {})
const sure = (mm: number) => `± ${mm.toFixed(3)}\u2009mm`
watch([told, view.loading], ([now, busy]) => now && !busy && !shown.value && void part.show())
onMounted(() => told.value && void part.show())
onBeforeUnmount(part.hide)
</script>

<template>
  <form class="card-form" data-test="accuracy" @submit.prevent="run">
    <p v-if="!framed.length" class="quiet">
      Its passes came as points or meshes: no frames tell how sure they are.
    </p>
    <template v-if="told">
      <DeviationBars :bins="told.bins" :range="told.range_mm" :band="0" one-sided />
      <dl class="figures" role="status" data-test="accuracy-told">
        <dt>Half of the places</dt>
        <dd class="num">{{ sure(told.half_mm) }}</dd>
        <dt>95&#8201;% of the places</dt>
        <dd class="num">{{ sure(told.p95_mm) }}</dd>
        <dt>Repeats within</dt>
        <dd class="num">{{ sure(told.repeatability_mm) }}</dd>
        <dt>Measured</dt>
        <dd class="num">{{ percent(told.measured_share) }}</dd>
      </dl>
      <dl class="figures">
        <template v-for="p in framed" :key="p.title">
          <dt>Noise of “{{ p.title }}”</dt>
          <dd class="num">{{ p.noise_mm.toFixed(3) }}&#8201;mm</dd>
        </template>
      </dl>
      <p class="quiet">
        Standard uncertainty (k&#8201;=&#8201;1): two of three places lie within it. The instrument’s own
        scale is not in it: that is for the reference piece and the caliper.
      </p>
      <p v-if="loading" class="quiet" role="status">Asking every frame of every place…</p>
      <p v-if="fault" class="quiet" role="status">{{ fault }}</p>
    </template>
    <button :class="main ? 'main-button' : 'plain-button'" :disabled="busy || !framed.length" type="submit">
      {{ told ? 'Work it out again' : 'Work it out' }}
    </button>
  </form>
</template>

<style scoped>
p,
dl {
  margin: 0;
}
</style>
