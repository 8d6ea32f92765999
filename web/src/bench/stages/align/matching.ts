import { computed, ref, shallowRef, watch } from 'vue'
import type { BenchContext } from '@/bench/context'
import type { Place } from '@/bench/viewer/layers/Layer'

export type Spot = [number, number, number]
/** A thread: a spot on what holds still, and the same spot on the pass that is placed, both as they lie in the view. */
export interface Thread {
  fixed: Spot | null
  moving: Spot | null
}
interface Figures {
  threads: { picked_mm: number; used: boolean }[]
  missing: string
}
export const letterOf = (n: number) => String.fromCharCode(65 + (n % 26))

/** Spots tied across two sides, until they place a pass. */
export function matching({ bench, view, live }: BenchContext) {
  const active = ref(false)
  const wanted = ref('')
  const threads = shallowRef<Thread[]>([])
  /** How far the moving pass is turned by itself, in degrees about the view's axes. */
  const turned = ref<Spot>([0, 0, 0])

  const passes = computed(() => bench.bench.value?.passes ?? [])
  /** Number of the pass that is placed: the chosen one, else the first that is not placed, else the last. */
  const moving = computed(() => {
    const titles = passes.value.map((p) => p.title)
    if (titles.includes(wanted.value)) return titles.indexOf(wanted.value)
    const waiting = passes.value.findIndex((p, n) => n > 0 && !p.placed)
    return waiting < 0 ? passes.value.length - 1 : waiting
  })
  const title = computed(() => passes.value[moving.value]?.title ?? '')
  const tied = computed(() =>
    threads.value.filter((t): t is { fixed: Spot; moving: Spot } => !!t.fixed && !!t.moving),
  )
  const parameters = computed(() => {
    const motion = passes.value[moving.value]?.T_object_pass
    return {
      pass: title.value,
      pairs: tied.value.map((t) => ({ fixed: t.fixed, moving: inFrameOf(motion, t.moving) })),
    }
  })
  const figures = computed(() => live.preview.value?.figures as Figures | undefined)
  /** Of every thread how far its ends lie apart, and whether it agrees; nothing of one that has a loose end. */
  const judged = computed(() => {
    const said = figures.value?.threads ?? []
    let k = 0
    return threads.value.map((t) => (t.fixed && t.moving ? (said[k++] ?? null) : null))
  })

  watch([active, parameters], ([on], [was]) => {
    if (on) live.show('match_points', parameters.value)
    else if (was) live.hide()
  })
  watch([view.snapshot, title], clear)

  /** Take a spot: it starts a thread, or ties the one that has its other end loose. */
  function take(place: Place | null) {
    if (!place || place.pass == null) return
    const side = place.pass === moving.value ? 'moving' : 'fixed'
    const open = threads.value.findIndex((t) => !t[side])
    const spot = place.place
    threads.value =
      open < 0
        ? [...threads.value, { fixed: null, moving: null, [side]: spot }]
        : threads.value.map((t, n) => (n === open ? { ...t, [side]: spot } : t))
  }
  function untie(n: number) {
    threads.value = threads.value.filter((_, k) => k !== n)
  }
  function clear() {
    threads.value = []
  }
  function turn(axis: 0 | 1 | 2, degrees: number) {
    turned.value = turned.value.map((v, k) => (k === axis ? v + degrees : v)) as Spot
  }
  const use = () => bench.operation('match_points', parameters.value)
  return {
    active,
    wanted,
    threads,
    turned,
    moving,
    title,
    tied,
    parameters,
    figures,
    judged,
    take,
    untie,
    clear,
    turn,
    use,
  }
}

/** A place of the object in the frame of a pass that lies in it by a motion (4 × 4, rigid). */
export function inFrameOf(motion: number[][] | undefined, place: Spot): Spot {
  if (!motion) return place
  const d = place.map((v, k) => v - motion[k][3])
  return [0, 1, 2].map((k) => motion[0][k] * d[0] + motion[1][k] * d[1] + motion[2][k] * d[2]) as Spot
}
export const matchingPart = (context: BenchContext) => context.part('matching', matching)
