<script setup lang="ts">
import { computed, onBeforeUnmount, onMounted, reactive, ref, watch } from 'vue'
import { useBenchContext } from '@/bench/context'
import SpotList from '@/bench/stages/set/SpotList.vue'
import { standing } from '@/bench/stages/set/standing'
import { spot, tiltFloor } from '@/bench/stages/set/tools'
import { mm } from '@/composables/format'
import { spotsPart, type Role } from '@/bench/stages/set/spots'

/** Which way is up, what looks forward, what stands over the origin. */
const props = defineProps<{ busy: boolean; main: boolean; name: string }>()
const context = useBenchContext()
const { bench, view } = context
const places = spotsPart(context)
const floor = context.part('standing', standing)
const { told: would } = floor
const WAYS = [
  { name: 'auto', title: 'By itself', words: 'By the plate where one is known, else on its flattest foot.' },
  { name: 'plate', title: 'Plate', words: 'As it stood on the plate of a pass.' },
  { name: 'plane', title: 'Flat foot', words: 'On the flat foot that is found.' },
  { name: 'places', title: 'Three places', words: 'So that three places lie level.' },
  { name: 'hand', title: 'By hand', words: 'On the floor as it is tilted by its handles, or by steps.' },
  { name: 'axes', title: 'Axes', words: 'Along the principal axis whose foot is flattest.' },
]
const SIDES = ['across', 'along'] as const
const CENTRES = [
  { name: 'middle', title: 'Its middle' },
  { name: 'foot', title: 'Its foot' },
  { name: 'place', title: 'A place' },
]
const values = reactive({ by: 'auto', places_of: 'foot', centre: 'middle', turn_deg: 0 })
const asking = ref<Role | null>(null)
const done = computed(() => bench.doneBy.value[props.name] ?? null)
const told = computed(() => done.value?.report as { up_from: string; tilted_deg?: number } | undefined)
const FROM: Record<string, string> = {
  plate: 'the plate',
  foot: 'its flat foot',
  plane: 'a plane',
  places: 'three places',
  'principal axes': 'its principal axes',
}
const ready = computed(() => {
  if (props.busy || (values.by === 'hand' && !floor.plane.value)) return false
  if (values.by === 'places' && places.picked.level.length < 3) return false
  return values.centre !== 'place' || places.picked.centre.length === 1
})
const WORDS: Partial<Record<Role, string>> = {
  level: 'Three places that shall lie level, far apart',
  front: 'A place that looks forward',
  centre: 'The place over the origin',
}
const parameters = computed(() => ({
  ...values,
  by: values.by === 'hand' ? 'plane' : values.by,
  plane: values.by === 'hand' ? floor.plane.value : null,
  places: values.by === 'places' ? places.picked.level : null,
  front: places.picked.front[0] ?? null,
  centre: values.centre === 'place' ? places.picked.centre[0] : values.centre,
}))
function run() {
  if (ready.value) void bench.operation(props.name, parameters.value)
}
// How it would stand is shown as long as the card is open and knows enough.
watch(
  [parameters, ready],
  ([now, enough]) => (floor.asked.value = enough || props.busy ? { ...now } : null),
  { immediate: true },
)
// A floor that was tilted is one of the state that it was tilted on.
watch(view.snapshot, () => values.by === 'hand' && (values.by = 'auto'))
watch(floor.plane, (by) => by && (values.by = 'hand'))
onMounted(() => (floor.enter.value = run))
onBeforeUnmount(() => {
  floor.asked.value = floor.plane.value = floor.enter.value = null
  if (view.tool.value === tiltFloor) view.use(null)
})
function turn(by: number) {
  values.turn_deg = ((values.turn_deg + by + 540) % 360) - 180
}
watch(asking, (now) => {
  if (!now) return places.leave()
  places.ask(now, run)
  if (view.tool.value?.name !== spot.name) view.use(spot)
})
watch(
  () => values.by,
  (by) => (by === 'hand' ? floor.keep() : (floor.plane.value = null)),
  { flush: 'sync' }, // before the floor that is shown is put away for want of a plane
)
watch(
  () => values.by,
  (by) => (asking.value = by === 'places' ? 'level' : asking.value === 'level' ? null : asking.value),
)
watch(
  () => values.centre,
  (centre) =>
    (asking.value = centre === 'place' ? 'centre' : asking.value === 'centre' ? null : asking.value),
)
onMounted(() => asking.value && places.ask(asking.value, run))
onBeforeUnmount(places.leave)
</script>

<template>
  <form class="card-form" data-test="stand" @submit.prevent="run">
    <label class="field"
      ><span>Up<small>What tells which way that is</small></span
      ><select v-model="values.by" data-test="stand-by">
        <option v-for="w in WAYS" :key="w.name" :value="w.name">{{ w.title }}</option>
      </select></label
    >
    <p class="quiet">{{ WAYS.find((w) => w.name === values.by)!.words }}</p>
    <div v-if="values.by === 'hand'" class="field">
      <span>Tilt<small>about the floor’s two sides</small></span>
      <span class="turn">
        <template v-for="(kind, n) in SIDES" :key="kind">
          <button
            v-for="by in [-1, 1]"
            :key="by"
            type="button"
            class="plain-button"
            :aria-label="`Tilt by ${by}° about its ${n ? 'second' : 'first'} side`"
            :data-test="`tilt-${kind}${by > 0 ? '' : '-back'}`"
            @click="floor.tilt(kind, by)"
          >
            {{ n ? (by > 0 ? '→' : '←') : by > 0 ? '↑' : '↓' }}
          </button>
        </template>
      </span>
    </div>
    <label v-if="values.by === 'places'" class="field"
      ><span>Places of</span
      ><select v-model="values.places_of" data-test="places-of">
        <option value="foot">Its foot</option>
        <option value="top">A level top</option>
      </select></label
    >
    <div class="field">
      <span
        >Front<small>{{
          places.picked.front.length ? 'as picked' : 'as the first frame saw it'
        }}</small></span
      ><button
        type="button"
        class="plain-button"
        :aria-pressed="asking === 'front'"
        data-test="pick-front"
        @click="asking = asking === 'front' ? null : 'front'"
      >
        Pick
      </button>
    </div>
    <label class="field"
      ><span>Over the origin</span
      ><select v-model="values.centre" data-test="stand-centre">
        <option v-for="c in CENTRES" :key="c.name" :value="c.name">{{ c.title }}</option>
      </select></label
    >
    <div class="field">
      <span>Turn<small>about the upright</small></span>
      <span class="turn"
        ><button type="button" class="plain-button" aria-label="Turn left by 90°" @click="turn(90)">↺</button
        ><input v-model.number="values.turn_deg" type="number" step="1" aria-label="Turn in degrees" /><button
          type="button"
          class="plain-button"
          aria-label="Turn right by 90°"
          @click="turn(-90)"
        >
          ↻
        </button></span
      >
    </div>
    <SpotList v-if="asking" :words="WORDS[asking]!" />
    <p v-if="would" class="quiet" role="status" data-test="would-stand">
      Would stand by {{ FROM[would.up_from] ?? would.up_from }}, tilted by {{ would.tilted_deg.toFixed(1) }}°,
      {{ mm(would.size_mm[2], 1) }} high.
    </p>
    <p v-else-if="told" class="quiet" role="status" data-test="stands">
      Stands by {{ FROM[told.up_from] ?? told.up_from
      }}<template v-if="told.tilted_deg !== undefined"
        >, was {{ told.tilted_deg.toFixed(1) }}° off upright</template
      >.
    </p>
    <button :class="main ? 'main-button' : 'plain-button'" :disabled="!ready" type="submit">Stand up</button>
  </form>
</template>

<style scoped>
p {
  margin: 0;
}
.turn {
  display: flex;
  gap: 4px;
}
.turn input {
  width: 64px;
}
.turn button {
  padding: 3px 9px;
}
button[aria-pressed='true'] {
  background: var(--ink);
  color: var(--sheet);
}
</style>
