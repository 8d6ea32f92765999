<script setup lang="ts">
import { computed, onBeforeUnmount, onMounted, ref, watch } from 'vue'
import { useBenchContext } from '@/bench/context'
import MarkStrokes from '@/bench/marks/MarkStrokes.vue'
import { useSurfaceMarks } from '@/bench/marks/useSurfaceMarks'
import SpotList from '@/bench/stages/set/SpotList.vue'
import { valueOf } from '@/bench/stages/set/lengths'
import { apart, spotsPart } from '@/bench/stages/set/spots'

/** Named measures that stay with the object. */
const props = defineProps<{ busy: boolean; main: boolean; name: string }>()
const context = useBenchContext()
const { bench } = context
const places = spotsPart(context)
const KINDS = [
  { name: 'length', title: 'Length', places: 2, most: 2, words: 'Two places' },
  { name: 'planes', title: 'Between faces', places: 2, most: 2, words: 'A place on each of two flat faces' },
  { name: 'angle', title: 'Angle', places: 3, most: 3, words: 'Three places; the angle is at the second' },
  { name: 'circle', title: 'Circle', places: 3, most: 12, words: 'Three places around a circle, or more' },
  {
    name: 'sphere',
    title: 'Sphere',
    places: 0,
    most: 0,
    words: 'Mark a part of the surface that is a sphere',
  },
  { name: 'cylinder', title: 'Cylinder', places: 0, most: 0, words: 'Mark a part that is a cylinder' },
]
const of = ref('length')
const kind = computed(() => KINDS.find((k) => k.name === of.value)!)
const called = ref('')
const caliper = ref<number | null>(null)
const { any, said, marks, on } = useSurfaceMarks(context, run)
const ready = computed(
  () => !props.busy && (kind.value.places ? places.picked.measure.length >= kind.value.places : any.value),
)
const now = computed(() =>
  of.value === 'length' && places.picked.measure.length === 2 ? apart(places.picked.measure) : null,
)
const lengths = computed(() => bench.bench.value?.lengths ?? [])
async function run() {
  if (!ready.value) return
  // Keys are for the view again, once the name is written.
  ;(document.activeElement as HTMLElement | null)?.blur?.()
  await bench.operation(props.name, {
    of: of.value,
    places: kind.value.places ? places.picked.measure : [],
    marks: kind.value.places ? null : marks.value,
    name: called.value,
    caliper_mm: caliper.value ?? 0,
  })
  called.value = ''
  caliper.value = null
}
watch(
  kind,
  (now) => {
    on.value = !now.places
    if (now.places) places.ask('measure', () => void run(), now.most)
    else places.leave()
  },
  { immediate: true },
)
onMounted(() => kind.value.places && places.ask('measure', () => void run(), kind.value.most))
onBeforeUnmount(places.leave)
</script>

<template>
  <form class="card-form" data-test="lengths" @submit.prevent="run">
    <label class="field"
      ><span>Measure</span
      ><select v-model="of" data-test="measure-of">
        <option v-for="k in KINDS" :key="k.name" :value="k.name">{{ k.title }}</option>
      </select></label
    >
    <SpotList v-if="kind.places" :words="kind.words" />
    <template v-else>
      <p class="quiet">{{ kind.words }}.</p>
      <MarkStrokes />
      <p v-if="any" class="marked num" role="status">{{ said }}</p>
    </template>
    <p v-if="now" class="num" role="status" data-test="length-now">{{ now.toFixed(2) }}&#8201;mm</p>
    <label class="field"
      ><span>Name<small>numbered when left out</small></span
      ><input v-model="called" type="text" maxlength="40" data-test="length-name"
    /></label>
    <label v-if="of !== 'angle'" class="field"
      ><span>Caliper<small>mm; what was read there, if anything</small></span
      ><input v-model.number="caliper" type="number" min="0" step="any"
    /></label>
    <button :class="main ? 'main-button' : 'plain-button'" :disabled="!ready" type="submit">
      Measure and keep
    </button>
    <ul v-if="lengths.length" aria-label="Lengths of the object" data-test="kept-lengths">
      <li v-for="l in lengths" :key="l.name">
        <span class="title">{{ l.name }}</span>
        <span class="num">{{ valueOf(l) }}</span>
        <button
          type="button"
          class="link"
          :disabled="busy"
          :aria-label="`Take off ${l.name}`"
          @click="bench.operation('take_off_length', { name: l.name })"
        >
          Take off
        </button>
        <small v-if="l.caliper_mm"
          >caliper {{ l.caliper_mm.toFixed(2) }}, {{ (l.value - l.caliper_mm).toFixed(2) }} off</small
        >
        <small v-else-if="l.sd"
          >± {{ (2 * l.sd).toFixed(3)
          }}<template v-if="l.rms_mm">, form {{ l.rms_mm.toFixed(3) }}</template></small
        >
      </li>
    </ul>
  </form>
</template>

<style scoped>
p {
  margin: 0;
}
.marked {
  color: var(--mark);
}
li {
  display: grid;
  grid-template-columns: 1fr auto auto;
  gap: 0 10px;
  padding: 5px 0;
  border-top: var(--hair);
  align-items: baseline;
}
.title {
  overflow: hidden;
  text-overflow: ellipsis;
}
li .num {
  text-align: right;
}
li small {
  grid-column: 1 / -1;
}
input {
  width: 118px;
}
</style>
