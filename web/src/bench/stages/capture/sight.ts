import { ref, shallowRef } from 'vue'
import type { SetUp } from '@/api/live'

/** What may slip, as the server words it. */
export interface Slip {
  kind: string
  words: string
}
/** Figures of a sight. */
export interface SightFigures {
  why: string
  clipped: number
  light: number[]
  span_mm: [number, number]
  slot_mm: [number, number]
  hill: number[]
  distance_mm: number | null
  just_right_ms: number | null
  frames: number
  grip?: { slide: number[]; turn: number[]; axes: number[][]; slips: Slip[] }
  drop_out?: Record<string, number>
  advice?: string[]
  points?: number
  memory_mb?: number
  minutes?: number
  spacing_mm?: number
  size_mm?: number
  by_hand?: boolean
  valid?: number[]
  valid_merged?: number
}
/** What the stage keeps of looking through the head: whether one looks, and with which set-up. */
export const sightHandle = () => ({
  on: ref(false),
  setUp: shallowRef<SetUp | null>(null),
  /** The range gate as it was moved in the preview. */
  gate: shallowRef<[number, number] | null>(null),
  /** By what the pass is to be held, as it was asked for against what may slip. */
  held: shallowRef<{ by: 'axis' | 'markers' } | null>(null),
})

const CLIPPED = 1
const TOO_DARK = 2
const HATCH_PX = 3

/**
 * Paint a photograph with its marks into RGBA: clipped light as violet hatch, too dark as ochre hatch the other way, and
 * what else is not measured as a fine ochre stipple.
 */
export function paintSight(
  photograph: Uint8Array,
  marks: Uint8Array,
  width: number,
  inks: [number[], number[]],
) {
  const [violet, ochre] = inks
  const out = new Uint8ClampedArray(marks.length * 4)
  for (let n = 0; n < marks.length; n++) {
    const x = n % width
    const y = (n - x) / width
    const mark = marks[n]
    const ink =
      mark === CLIPPED && (x + y) % (2 * HATCH_PX) < HATCH_PX
        ? violet
        : mark === TOO_DARK && (x - y + 6000) % (2 * HATCH_PX) < HATCH_PX
          ? ochre
          : mark > TOO_DARK && x % 3 === 0 && y % 3 === 0
            ? ochre
            : null
    for (let c = 0; c < 3; c++) out[4 * n + c] = ink ? ink[c] : photograph[3 * n + c]
    out[4 * n + 3] = 255
  }
  return out
}

/** `#6f4bb0` as red, green, blue. */
export function inkOf(name: string): number[] {
  const hex =
    getComputedStyle(document.documentElement).getPropertyValue(name).trim().replace('#', '') || '888888'
  return [0, 2, 4].map((at) => parseInt(hex.slice(at, at + 2), 16))
}
