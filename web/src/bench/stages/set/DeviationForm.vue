<script setup lang="ts">
import { onBeforeUnmount, onMounted, ref, watch } from 'vue'
import { useBenchContext } from '@/bench/context'
import { deviationPart } from '@/bench/stages/set/deviation'
import DeviationBars from '@/components/DeviationBars.vue'
import { percent } from '@/composables/format'

/** The surface held against another take, a pass, or a mesh that came in. */
const props = defineProps<{ busy: boolean; main: boolean; name: string }>()
const context = useBenchContext()
const { bench, view } = context
const part = deviationPart(context)
const { told, against, shown, loading, fault } = part
const chosen = ref(told.value?.against ?? '')
const band = ref(told.value?.tolerance_mm ?? 0)
watch(against, (now) => now.includes(chosen.value) || (chosen.value = now[0] ?? ''), { immediate: true })
const run = () => bench.operation(props.name, { against: chosen.value, tolerance_mm: band.value || 0 })
const side = (off: number) => `${off > 0 ? '+' : ''}${off.toFixed(3)}\u2009mm`
watch([told, view.loading], ([now, busy]) => now && !busy && !shown.value && void part.show())
onMounted(() => told.value && void part.show())
onBeforeUnmount(part.hide)
</script>

<template>
  <form class="card-form" data-test="deviation" @submit.prevent="run">
    <label class="field"
      ><span>Against<small>a take, a pass, a mesh that came in</small></span
      ><select v-model="chosen" data-test="against">
        <option v-for="a in against" :key="a">{{ a }}</option>
      </select></label
    >
    <label class="field"
      ><span>Band<small>± mm it should lie within; 0 asks for none</small></span
      ><input v-model.number="band" type="number" min="0" step="any" data-test="band"
    /></label>
    <template v-if="told">
      <DeviationBars :bins="told.bins" :range="told.range_mm" :band="told.tolerance_mm" />
      <dl class="figures" role="status" data-test="deviation-told">
        <dt>Mean</dt>
        <dd class="num">{{ side(told.mean_mm) }}</dd>
        <dt>95&#8201;% within</dt>
        <dd class="num">{{ told.p95_mm.toFixed(3) }}&#8201;mm</dd>
        <template v-if="told.within_share !== null">
          <dt>In the band</dt>
          <dd class="num">{{ percent(told.within_share) }}</dd>
        </template>
        <dt>Has a counterpart</dt>
        <dd class="num">{{ percent(told.known_share) }}</dd>
      </dl>
      <p class="quiet">
        Farthest off:
        <button
          v-for="e in told.extremes"
          :key="e.at.join()"
          type="button"
          class="link num"
          @click="view.viewer.value?.flyTo(e.at)"
        >
          {{ side(e.off_mm) }}
        </button>
      </p>
      <p v-if="loading" class="quiet" role="status">Measuring every place…</p>
      <p v-if="fault" class="quiet" role="status">{{ fault }}</p>
    </template>
    <p v-else-if="!against.length" class="quiet">
      There is nothing to hold it against: no take and no placed pass. Bring a reference mesh in and find its
      fit.
    </p>
    <button :class="main ? 'main-button' : 'plain-button'" :disabled="busy || !chosen" type="submit">
      {{ told ? 'Hold against it again' : 'Hold against it' }}
    </button>
  </form>
</template>

<style scoped>
p {
  margin: 0;
}
p .link {
  margin-right: 8px;
}
input[type='number'] {
  width: 104px;
}
dl {
  margin: 0;
}
</style>
