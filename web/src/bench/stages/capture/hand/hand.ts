import { computed, ref } from 'vue'
import type { BenchContext } from '@/bench/context'

export interface NextMove {
  words: string
  gain: number
  common: number
}
/** Figures of a pass by hand, as the server tells them with every frame. */
export interface HandFigures {
  frame: number
  frames: number
  state: '' | 'held' | 'weak' | 'lost'
  reason: string
  line: string
  counts: { in: number; lost: number; found: number }
  slips: [number, number][]
  runs: [number, number][]
  /** Runs of frames that somebody took out. */
  out: [number, number][]
  drift_mm: number
  residual_mm: number | null
  pace: number
  pace_mm_s: number
  enough: number
  enough_reached: boolean
  nexts: NextMove[]
  last_turn: number | null
  adds_nothing: boolean
  grip: { slide: number[]; turn: number[]; weak: string[] } | null
  /** Markers that hold the newest frame, that it sees, that are known and wanted; null where shape holds the pass. */
  markers: { held: number; seen: number; known: number; wanted: number } | null
  span_mm: [number, number]
  slot_mm: [number, number]
  hill: number[]
  distance_mm: number | null
  clipped: number
  frames_per_s: number
  sweep: string
}

const QUIET = 'hand-sounds-off'
/** What the stage keeps of a pass by hand: its figures, and whether it is heard. */
export const handPart = ({ bench, live }: BenchContext) => ({
  on: computed(() => !!bench.capturing.value?.by_hand),
  figures: computed(() => live.hand.value?.figures as unknown as HandFigures | undefined),
  loud: ref(localStorage.getItem(QUIET) !== '1'),
})
export function keepLoud(loud: boolean) {
  if (loud) localStorage.removeItem(QUIET)
  else localStorage.setItem(QUIET, '1')
}

/** Degrees, or millimetres, that one press of a key steers. */
const TURN = 4
const SHIFT = 12
/** What the keys steer: arrows round and up, with Shift nearer and farther and rolling, with Alt the aim. */
export function movesOf(key: string, shift: boolean, alt: boolean): Record<string, number> | null {
  const sign = { ArrowLeft: -1, ArrowRight: 1, ArrowDown: -1, ArrowUp: 1 }[key]
  if (!sign) return null
  const across = key === 'ArrowLeft' || key === 'ArrowRight'
  if (alt) return across ? { aside_mm: sign * SHIFT } : { above_mm: sign * SHIFT }
  if (shift) return across ? { table_deg: sign * TURN } : { away_mm: -sign * SHIFT }
  return across ? { around_deg: sign * TURN } : { up_deg: sign * TURN }
}
const DEAD = 0.18
/** What a gamepad's sticks steer in one question: the left one round and up, the right one nearer and the tray. */
export function movesOfPad(axes: readonly number[]): Record<string, number> | null {
  const [x = 0, y = 0, tray = 0, near = 0] = axes.map((a) => (Math.abs(a) > DEAD ? a : 0))
  const moves = { around_deg: 2.5 * x, up_deg: -2.5 * y, table_deg: 2 * tray, away_mm: 8 * near }
  const some = Object.entries(moves).filter(([, by]) => by)
  return some.length ? Object.fromEntries(some) : null
}
/** Degrees that a pixel of a drag in the view steers. */
const PER_PIXEL = 0.25
export const movesOfDrag = (dx: number, dy: number) => ({
  around_deg: -PER_PIXEL * dx,
  up_deg: PER_PIXEL * dy,
})
