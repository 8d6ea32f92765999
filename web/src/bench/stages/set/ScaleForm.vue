<script setup lang="ts">
import { computed, onBeforeUnmount, onMounted, ref, watch } from 'vue'
import { useBenchContext } from '@/bench/context'
import SpotList from '@/bench/stages/set/SpotList.vue'
import { apart, spotsPart } from '@/bench/stages/set/spots'

const PLAUSIBLE = 0.02 // of a length: beyond, it is the instrument that has to be checked
/** What a caliper reads between two places becomes what the object measures. */
const props = defineProps<{ busy: boolean; main: boolean; name: string }>()
const context = useBenchContext()
const { bench, live } = context
const places = spotsPart(context)
const ends = computed(() => places.picked.scale)
const across = ref('places')
const caliper = ref<number | null>(null)
/** Between faces it is measured where the surface is: by the server, as the step itself does. */
const faces = computed(() => across.value === 'planes' && ends.value.length === 2)
const measured = computed(() => {
  if (faces.value) return (live.preview.value?.figures.before_mm as number | undefined) ?? null
  return ends.value.length === 2 ? apart(ends.value) : null
})
watch(
  [faces, ends],
  () => {
    if (faces.value) live.show(props.name, { places: ends.value, across: 'planes' })
    else live.hide(props.name)
  },
  { deep: true },
)
const factor = computed(() =>
  measured.value && caliper.value && caliper.value > 0 ? caliper.value / measured.value : null,
)
const scale = computed(() => bench.bench.value?.scale ?? null)
const ready = computed(() => !props.busy && factor.value !== null)
const off = (times: number) => `${times >= 1 ? '+' : ''}${((times - 1) * 100).toFixed(2)} %`
function run() {
  if (!ready.value) return
  void bench.operation(props.name, {
    places: ends.value,
    across: across.value,
    true_mm: caliper.value,
  })
}
onMounted(() => places.ask('scale', run))
onBeforeUnmount(() => {
  places.leave()
  live.hide(props.name)
})
</script>

<template>
  <form class="card-form" data-test="scale" @submit.prevent="run">
    <SpotList words="Two places that a caliper can touch" />
    <label class="field"
      ><span>Between<small>flat faces: the planes around the places</small></span
      ><select v-model="across">
        <option value="places">The places</option>
        <option value="planes">Flat faces</option>
      </select></label
    >
    <label class="field"
      ><span>Caliper<small>mm, between the two</small></span
      ><input v-model.number="caliper" type="number" min="0" step="any" data-test="caliper"
    /></label>
    <p v-if="faces && !measured" class="quiet" role="status">
      {{ live.refused.value || 'Measuring between the faces…' }}
    </p>
    <dl v-if="measured" class="figures" role="status" data-test="scale-told">
      <dt>Here</dt>
      <dd class="num">{{ measured.toFixed(2) }}&#8201;mm</dd>
      <template v-if="factor">
        <dt>All lengths</dt>
        <dd class="num" :class="{ warn: Math.abs(factor - 1) > PLAUSIBLE }">{{ off(factor) }}</dd>
      </template>
    </dl>
    <p v-if="factor && Math.abs(factor - 1) > PLAUSIBLE" class="warn" data-test="not-plausible">
      More than 2&#8201;% is no fault of scale:
      <RouterLink to="/instruments">check the instrument</RouterLink>
      instead, or whether these are the places that were measured.
    </p>
    <p v-if="scale" class="quiet" data-test="scaled">
      Scaled by {{ off(scale.factor) }} since capture{{ scale.by_caliper ? ', by caliper' : '' }}.
    </p>
    <p v-else class="quiet">As the instrument measured; nobody has checked it with a caliper yet.</p>
    <button :class="main ? 'main-button' : 'plain-button'" :disabled="!ready" type="submit">
      Scale everything
    </button>
  </form>
</template>

<style scoped>
p {
  margin: 0;
}
.warn {
  color: var(--ochre-ink);
}
input[type='number'] {
  width: 104px;
}
</style>
