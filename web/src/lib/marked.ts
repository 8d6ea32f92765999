import {
  awaySquared,
  type BallStroke,
  type Marks,
  type ScreenStroke,
  type Stroke,
  type StrokeView,
} from './strokes'

/** Points of a pass as they are shown: whole steps from an origin, normals in 127ths, their usual spacing in mm. */
export interface MarkCloud {
  count: number
  origin: [number, number, number]
  step: number
  spacing: number
  positions: Uint16Array
  normals: Int8Array
}
const HIDDEN_SPACINGS = 1.5
const COVER_SPACINGS = 0.8
const LEAST_COS = 0.12

/**
 * Which points are marked, by the rules of the core's `selection`: the same strokes on the same points give the same
 * answer here at once and there exactly. Joined strokes are left to the core.
 */
export class Marker {
  private readonly clouds = new Map<number, MarkCloud>()
  private answers = new Map<string, Map<number, Uint8Array>>()
  private sight: { key: string; depth: Float32Array } | null = null

  set(pass: number, cloud: MarkCloud | null) {
    if (cloud) this.clouds.set(pass, cloud)
    else this.clouds.delete(pass)
    this.answers.clear()
    this.sight = null
  }
  /** Packed flags of every pass, the lowest bit of a byte first. */
  flags(marks: Marks): Map<number, Uint8Array> {
    const asked = marks.strokes.map((s) => this.answer(s))
    // What was asked before and is no longer is forgotten, so that a long session holds no more than it shows.
    this.answers = new Map(marks.strokes.map((s, n) => [JSON.stringify(s), asked[n]]))
    const out = new Map<number, Uint8Array>()
    for (const [pass, { count }] of this.clouds) {
      const own = new Uint8Array(count)
      marks.strokes.forEach(({ add }, n) => {
        const held = asked[n].get(pass)!
        for (let k = 0; k < count; k++) if (held[k]) own[k] = add ? 1 : 0
      })
      out.set(pass, packed(own, marks.invert))
    }
    return out
  }
  private answer(stroke: Stroke): Map<number, Uint8Array> {
    const known = this.answers.get(JSON.stringify(stroke))
    if (known) return known
    const out = new Map<number, Uint8Array>()
    for (const [pass, cloud] of this.clouds) {
      if (stroke.shape === 'joined') out.set(pass, new Uint8Array(cloud.count))
      else if (stroke.shape === 'ball') out.set(pass, inBall(stroke, cloud))
      else out.set(pass, within(stroke, cloud, stroke.through ? null : this.seenFrom(stroke.view)))
    }
    return out
  }
  private seenFrom(view: StrokeView): Sight {
    const key = JSON.stringify(view)
    if (this.sight?.key !== key) {
      const depth = new Float32Array(view.width * view.height).fill(Infinity)
      const spacing = this.spacing
      for (const cloud of this.clouds.values()) discDepths(cloud, view, COVER_SPACINGS * spacing, depth)
      this.sight = { key, depth }
    }
    return { depth: this.sight.depth, spacing: this.spacing }
  }
  private get spacing() {
    return Math.max(...[...this.clouds.values()].map((c) => c.spacing), 1e-6)
  }
}

interface Sight {
  depth: Float32Array
  spacing: number
}

/** Rows of a view's motion with a cloud's steps folded in, its focal length and its middle. */
function seenBy({ T_view_object: T, fov_deg, width, height }: StrokeView, { origin, step }: MarkCloud) {
  const rows = [0, 1, 2].map((k) => [
    T[k][0] * step,
    T[k][1] * step,
    T[k][2] * step,
    T[k][0] * origin[0] + T[k][1] * origin[1] + T[k][2] * origin[2] + T[k][3],
  ])
  const f = height / (2 * Math.tan((fov_deg * Math.PI) / 360))
  return { rows, f, cx: (width - 1) / 2, cy: (height - 1) / 2 }
}

function discDepths(cloud: MarkCloud, view: StrokeView, radius: number, depth: Float32Array) {
  const { rows, f, cx, cy } = seenBy(view, cloud)
  const [X, Y, Z] = rows
  const T = view.T_view_object
  const { width, height } = view
  const { positions: p, normals: m } = cloud
  for (let n = 0; n < cloud.count; n++) {
    const [i, j, k] = [p[3 * n], p[3 * n + 1], p[3 * n + 2]]
    const z = Z[0] * i + Z[1] * j + Z[2] * k + Z[3]
    if (z <= 1e-9) continue
    const x = X[0] * i + X[1] * j + X[2] * k + X[3]
    const y = Y[0] * i + Y[1] * j + Y[2] * k + Y[3]
    const [na, nb, nc] = [m[4 * n] / 127, m[4 * n + 1] / 127, m[4 * n + 2] / 127]
    const a = T[0][0] * na + T[0][1] * nb + T[0][2] * nc
    const b = T[1][0] * na + T[1][1] * nb + T[1][2] * nc
    const c = T[2][0] * na + T[2][1] * nb + T[2][2] * nc
    const u = (x / z) * f + cx
    const v = (y / z) * f + cy
    const r = Math.max((radius * f) / z, 0.5)
    const level = a * x + b * y + c * z
    const bottom = Math.min(Math.floor(v + r), height - 1)
    const right = Math.min(Math.floor(u + r), width - 1)
    for (let row = Math.max(Math.ceil(v - r), 0); row <= bottom; row++)
      for (let column = Math.max(Math.ceil(u - r), 0); column <= right; column++) {
        const along = (column - cx) / f
        const down = (row - cy) / f
        const slope = a * along + b * down + c
        let deep = Math.abs(slope) > 1e-6 ? level / slope : z
        const away = (along * deep - x) ** 2 + (down * deep - y) ** 2 + (deep - z) ** 2
        if (away > radius * radius) {
          if (r > 1 || Math.abs(slope) <= 1e-6) continue
          deep = z
        }
        const at = row * width + column
        if (deep < depth[at]) depth[at] = deep
      }
  }
}

function within(stroke: ScreenStroke, cloud: MarkCloud, sight: Sight | null): Uint8Array {
  const out = new Uint8Array(cloud.count)
  const { rows, f, cx, cy } = seenBy(stroke.view, cloud)
  const [X, Y, Z] = rows
  const holds = outlineOf(stroke)
  const T = stroke.view.T_view_object
  const { width, height } = stroke.view
  const { positions: p, normals: m } = cloud
  for (let n = 0; n < cloud.count; n++) {
    const [i, j, k] = [p[3 * n], p[3 * n + 1], p[3 * n + 2]]
    const z = Z[0] * i + Z[1] * j + Z[2] * k + Z[3]
    if (z <= 1e-9) continue
    const x = X[0] * i + X[1] * j + X[2] * k + X[3]
    const y = Y[0] * i + Y[1] * j + Y[2] * k + Y[3]
    const u = (x / z) * f + cx
    const v = (y / z) * f + cy
    if (!holds(u, v)) continue
    if (!sight) {
      out[n] = 1
      continue
    }
    const [column, row] = [Math.round(u), Math.round(v)]
    if (column < 0 || row < 0 || column >= width || row >= height) continue
    const [na, nb, nc] = [m[4 * n] / 127, m[4 * n + 1] / 127, m[4 * n + 2] / 127]
    let cosine = 0
    for (let q = 0; q < 3; q++) cosine -= [x, y, z][q] * (T[q][0] * na + T[q][1] * nb + T[q][2] * nc)
    cosine /= Math.hypot(x, y, z)
    if (cosine <= 0) continue
    const cos = Math.min(Math.max(cosine, LEAST_COS), 1)
    const margin = HIDDEN_SPACINGS * sight.spacing + ((z / f) * Math.sqrt(1 - cos * cos)) / cos
    if (z <= sight.depth[row * width + column] + margin) out[n] = 1
  }
  return out
}

/** Whether a pixel lies in what was drawn: by the even-odd rule, in the box, or near the path. */
function outlineOf({ shape, points, radius_px }: ScreenStroke): (u: number, v: number) => boolean {
  const us = Float64Array.from(points, (q) => q[0])
  const vs = Float64Array.from(points, (q) => q[1])
  const reach = shape === 'brush' ? radius_px : 0
  const [low, high] = [Math.min(...us) - reach, Math.max(...us) + reach]
  const [top, bottom] = [Math.min(...vs) - reach, Math.max(...vs) + reach]
  const boxed = (u: number, v: number) => u >= low && u <= high && v >= top && v <= bottom
  if (shape === 'box') return boxed
  if (shape === 'brush') {
    const limit = radius_px * radius_px
    return (u, v) => {
      if (!boxed(u, v)) return false
      if (points.length === 1) return awaySquared([u, v], points[0], points[0]) <= limit
      for (let n = 1; n < points.length; n++)
        if (awaySquared([u, v], points[n - 1], points[n]) <= limit) return true
      return false
    }
  }
  return (u, v) => {
    if (!boxed(u, v)) return false
    let odd = false
    for (let n = 0, before = us.length - 1; n < us.length; before = n++)
      if (
        vs[n] > v !== vs[before] > v &&
        u < us[n] + ((v - vs[n]) / (vs[before] - vs[n])) * (us[before] - us[n])
      )
        odd = !odd
    return odd
  }
}

function inBall(
  { centres, radius_mm }: BallStroke,
  { count, origin, step, positions: p }: MarkCloud,
): Uint8Array {
  const out = new Uint8Array(count)
  const limit = radius_mm * radius_mm
  const low = [0, 1, 2].map((k) => Math.min(...centres.map((c) => c[k])) - radius_mm)
  const high = [0, 1, 2].map((k) => Math.max(...centres.map((c) => c[k])) + radius_mm)
  const at = [0, 0, 0]
  for (let n = 0; n < count; n++) {
    let near = true
    for (let k = 0; k < 3; k++) {
      at[k] = p[3 * n + k] * step + origin[k]
      near &&= at[k] >= low[k] && at[k] <= high[k]
    }
    if (!near) continue
    if (centres.length === 1) out[n] = awaySquared(at, centres[0], centres[0]) <= limit ? 1 : 0
    for (let k = 1; k < centres.length && !out[n]; k++)
      if (awaySquared(at, centres[k - 1], centres[k]) <= limit) out[n] = 1
  }
  return out
}

function packed(flags: Uint8Array, invert: boolean): Uint8Array {
  const out = new Uint8Array((flags.length + 7) >> 3)
  for (let n = 0; n < flags.length; n++) if ((flags[n] === 1) !== invert) out[n >> 3] |= 1 << (n & 7)
  return out
}
