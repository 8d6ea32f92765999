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
  /** Where the pass would lie, and how much of the smaller side is common then. */
  T_object_pass?: number[][]
  overlap?: number
}
export type Side = 'fixed' | 'moving'
export const letterOf = (n: number) => String.fromCharCode(65 + (n % 26))

/** Spots tied across two sides, until they place a pass. */
export function matching({ bench, view, live }: BenchContext) {
  const active = ref(false)
  const wanted = ref('')
  const threads = shallowRef<Thread[]>([])
  /** How far the moving pass is turned by itself, in degrees about the view's axes. */
  const turned = ref<Spot>([0, 0, 0])

  const passes = computed(() => bench.bench.value?.passes ?? [])
  const moving = computed(() => passToPlace(passes.value, wanted.value))
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

  /** Where the pass lies now, and where it would lie. */
  const now = computed(() => passes.value[moving.value]?.T_object_pass)
  const fit = computed(() => figures.value?.T_object_pass ?? null)
  const loose = computed(() => threads.value.findIndex((t) => !t.fixed || !t.moving))
  /** The likely counterpart of the end that is loose, as it lies in the view, once threads say how the sides lie. */
  const offered = computed<{ thread: number; side: Side; spot: Spot } | null>(() => {
    const open = threads.value[loose.value]
    if (!open || !fit.value || !now.value) return null
    const { fixed, moving: own } = open
    return fixed
      ? { thread: loose.value, side: 'moving', spot: through(now.value, inFrameOf(fit.value, fixed)) }
      : { thread: loose.value, side: 'fixed', spot: through(fit.value, inFrameOf(now.value, own!)) }
  })

  watch([active, parameters], ([on], [was]) => {
    if (on) live.show('match_points', parameters.value)
    else if (was) live.hide('match_points')
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
  function put(n: number, side: Side, spot: Spot | null) {
    threads.value = threads.value.map((t, k) => (k === n ? { ...t, [side]: spot } : t))
  }
  /** Tie the loose end to its offered counterpart; false when none is offered. */
  function takeOffered(): boolean {
    const offer = offered.value
    if (offer) put(offer.thread, offer.side, offer.spot)
    return !!offer
  }
  /** Move an end of a thread to another spot of its side. */
  function moveEnd(n: number, side: Side, place: Place | null) {
    if (place?.pass == null || (place.pass === moving.value) !== (side === 'moving')) return
    put(n, side, place.place)
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
    now,
    fit,
    offered,
    take,
    put,
    takeOffered,
    moveEnd,
    untie,
    clear,
    turn,
    use,
  }
}

/** Number of the pass that a hand places: the wanted one, else the first that is not placed, else the last. */
export function passToPlace(passes: { title: string; placed: boolean }[], wanted: string): number {
  const titles = passes.map((p) => p.title)
  if (titles.includes(wanted)) return titles.indexOf(wanted)
  const waiting = passes.findIndex((p, n) => n > 0 && !p.placed)
  return waiting < 0 ? passes.length - 1 : waiting
}

/** A place of a frame moved by a rigid motion (4 × 4). */
export const through = (motion: number[][], place: Spot): Spot =>
  [0, 1, 2].map((k) => motion[k].slice(0, 3).reduce((sum, m, j) => sum + m * place[j], motion[k][3])) as Spot

/** A place of the object in the frame of a pass that lies in it by a motion (4 × 4, rigid). */
export function inFrameOf(motion: number[][] | undefined, place: Spot): Spot {
  if (!motion) return place
  const d = place.map((v, k) => v - motion[k][3])
  return [0, 1, 2].map((k) => motion[0][k] * d[0] + motion[1][k] * d[1] + motion[2][k] * d[2]) as Spot
}
export const matchingPart = (context: BenchContext) => context.part('matching', matching)
