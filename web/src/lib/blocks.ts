import type { StrokeView } from './strokes'

/** Points of a pass as they are shown: whole steps from an origin, normals in 127ths, their usual spacing in mm. */
export interface MarkCloud {
  count: number
  origin: [number, number, number]
  step: number
  spacing: number
  positions: Uint16Array
  normals: Int8Array
}

/** A view's motion, row by row, focal length and middle. */
export interface Pose {
  T: number[][]
  f: number
  cx: number
  cy: number
}
export function poseOf({ T_view_object: T, fov_deg, width, height }: StrokeView): Pose {
  const f = height / (2 * Math.tan((fov_deg * Math.PI) / 360))
  return { T, f, cx: (width - 1) / 2, cy: (height - 1) / 2 }
}

/** A piece of a view in pixels. */
export interface Window {
  left: number
  right: number
  top: number
  bottom: number
}
export const EVERYTHING: Window = { left: -Infinity, right: Infinity, top: -Infinity, bottom: Infinity }
export const meet = (a: Window, b: Window) =>
  a.left <= b.right && b.left <= a.right && a.top <= b.bottom && b.top <= a.bottom

/** How many points are shown while a view moves: of each cloud the first ones, which lie all over it. */
export const LIGHTLY = 150_000
const IN_A_BLOCK = 256
/** Points are sorted by cells of so many steps. */
const CELL_BITS = 7
const CELLS = 2 ** (3 * (16 - CELL_BITS))
/** Blocks hold first the points that are shown lightly: so much of a cloud, and more and more. */
const SHARES = [1 / 8, 1 / 4, 1 / 2, 1]
/** Rounding: a block is taken for a hundredth of a pixel larger than it is. */
const SLACK_PX = 0.01

/**
 * The points of a cloud in blocks of neighbours with their bounds, so that what lies far from a stroke is passed over
 * as a whole. Positions in mm; `order` says which point of the cloud each one is.
 */
export class Blocks {
  readonly count: number
  readonly blocks: number
  /** Where each block begins, and where the last one ends. */
  private readonly starts: number[] = []
  /** How many blocks hold each share of the points. */
  private readonly upTo: number[] = []
  readonly spacing: number
  readonly order: Uint32Array
  readonly positions: Float32Array
  readonly normals: Float32Array
  /** Lower and upper corner of each block, six numbers each. */
  readonly bounds: Float32Array

  constructor({ count, origin, step, spacing, positions: p, normals: m }: MarkCloud) {
    this.count = count
    this.spacing = spacing
    let at = 0
    for (const share of SHARES) {
      const end = Math.ceil(share * count)
      for (; at < end; at = Math.min(at + IN_A_BLOCK, end)) this.starts.push(at)
      this.upTo.push(this.starts.length)
    }
    this.blocks = this.starts.length
    this.starts.push(count)
    this.order = sorted(p, count)
    this.positions = new Float32Array(3 * count)
    this.normals = new Float32Array(3 * count)
    this.bounds = new Float32Array(6 * this.blocks)
    for (let b = 0; b < this.blocks; b++) {
      for (let k = 0; k < 3; k++) {
        let low = Infinity
        let high = -Infinity
        for (let n = this.first(b); n < this.end(b); n++) {
          const from = this.order[n]
          const at = (this.positions[3 * n + k] = p[3 * from + k] * step + origin[k])
          this.normals[3 * n + k] = m[4 * from + k] / 127
          if (at < low) low = at
          if (at > high) high = at
        }
        this.bounds[6 * b + k] = low - 1e-3 * step
        this.bounds[6 * b + 3 + k] = high + 1e-3 * step
      }
    }
  }
  first(block: number) {
    return this.starts[block]
  }
  end(block: number) {
    return this.starts[block + 1]
  }
  /** How many blocks, from the first on, hold at least a share of the points: the first ones of the cloud. */
  holding(share: number) {
    return this.upTo[SHARES.findIndex((s) => s >= Math.min(share, 1))]
  }
  /** Where a block lies in a view, `radius` mm around each point included: everywhere, when it reaches the eye. */
  window(block: number, { T, f, cx, cy }: Pose, radius: number): Window {
    const at = 6 * block
    const out = { left: Infinity, right: -Infinity, top: Infinity, bottom: -Infinity }
    for (let corner = 0; corner < 8; corner++) {
      const x = this.bounds[at + (corner & 1 ? 3 : 0)]
      const y = this.bounds[at + 1 + (corner & 2 ? 3 : 0)]
      const z = this.bounds[at + 2 + (corner & 4 ? 3 : 0)]
      const deep = T[2][0] * x + T[2][1] * y + T[2][2] * z + T[2][3]
      if (deep <= radius + 1e-6) return EVERYTHING
      const u = ((T[0][0] * x + T[0][1] * y + T[0][2] * z + T[0][3]) / deep) * f + cx
      const v = ((T[1][0] * x + T[1][1] * y + T[1][2] * z + T[1][3]) / deep) * f + cy
      const reach = Math.max((radius * f) / deep, 0.5) + SLACK_PX
      out.left = Math.min(out.left, u - reach)
      out.right = Math.max(out.right, u + reach)
      out.top = Math.min(out.top, v - reach)
      out.bottom = Math.max(out.bottom, v + reach)
    }
    return out
  }
}

/** The points share by share and cell by cell, along a curve that stays among neighbours (Morton 1966). */
function sorted(positions: Uint16Array, count: number): Uint32Array {
  const keys = new Float64Array(count)
  const ends = SHARES.map((share) => Math.ceil(share * count))
  for (let n = 0, part = 0; n < count; n++) {
    while (n >= ends[part]) part += 1
    const cell =
      spread(positions[3 * n] >> CELL_BITS) |
      (spread(positions[3 * n + 1] >> CELL_BITS) << 1) |
      (spread(positions[3 * n + 2] >> CELL_BITS) << 2)
    keys[n] = (part * CELLS + cell) * count + n
  }
  keys.sort()
  return Uint32Array.from(keys, (key) => key % count)
}

/** The bits of a number below 1024, two free places between each. */
function spread(n: number): number {
  n = (n | (n << 16)) & 0x030000ff
  n = (n | (n << 8)) & 0x0300f00f
  n = (n | (n << 4)) & 0x030c30c3
  return (n | (n << 2)) & 0x09249249
}
