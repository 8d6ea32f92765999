import { Blocks, LIGHTLY, meet, poseOf, type MarkCloud, type Window } from './blocks'
import { outlineOf, type Drawing } from './outline'
import { awaySquared, type BallStroke, type Marks, type Stroke, type StrokeView } from './strokes'

/** Packed flags of every pass, the lowest bit of a byte first. */
type Answer = Map<number, Uint8Array>
const HIDDEN_SPACINGS = 1.5
const COVER_SPACINGS = 0.8
const LEAST_COS = 0.12

/**
 * Which points are marked, by the rules of the core's `selection`: the same strokes on the same points give the same
 * answer here at once and there exactly. Joined strokes are left to the core.
 */
export class Marker {
  private readonly clouds = new Map<number, Blocks>()
  /** What strokes marked of all points, and of those that are shown first. */
  private readonly answers = { whole: new Map<string, Answer>(), first: new Map<string, Answer>() }
  private sight: Sight | null = null

  set(pass: number, cloud: MarkCloud | null) {
    if (cloud) this.clouds.set(pass, new Blocks(cloud))
    else this.clouds.delete(pass)
    this.answers.whole.clear()
    this.answers.first.clear()
    this.sight = null
  }
  /** Which share of the points is shown while the view moves. */
  get share() {
    return LIGHTLY / [...this.clouds.values()].reduce((sum, c) => sum + c.count, 1)
  }
  /** What is marked of all points, or of at least a share of them: of those that are shown first. */
  flags(marks: Marks, share = 1): Answer {
    const names = marks.strokes.map((s) => JSON.stringify(s))
    const { whole, first } = this.answers
    const known = share < 1 ? first : whole
    const asked = marks.strokes.map(
      (s, n) => whole.get(names[n]) ?? known.get(names[n]) ?? this.answer(s, share),
    )
    // What was asked before and is no longer is forgotten, so that a long session holds no more than it shows.
    known.clear()
    names.forEach((name, n) => known.set(name, asked[n]))
    const out = new Map<number, Uint8Array>()
    for (const [pass, { count }] of this.clouds) {
      const own = new Uint8Array((count + 7) >> 3)
      marks.strokes.forEach(({ add }, n) => {
        const held = asked[n].get(pass)!
        for (let k = 0; k < own.length; k++) own[k] = add ? own[k] | held[k] : own[k] & ~held[k]
      })
      if (marks.invert) turnRound(own, count)
      out.set(pass, own)
    }
    return out
  }
  private answer(stroke: Stroke, share: number): Answer {
    const out = new Map<number, Uint8Array>()
    const drawing = 'view' in stroke ? outlineOf(stroke) : null
    const sight =
      drawing && 'view' in stroke && !stroke.through ? this.look(stroke.view, drawing.window) : null
    for (const [pass, cloud] of this.clouds) {
      const flags = new Uint8Array((cloud.count + 7) >> 3)
      const blocks = cloud.holding(share)
      if (stroke.shape === 'ball') inBall(stroke, cloud, blocks, flags)
      else if (drawing && 'view' in stroke) within(stroke.view, drawing, cloud, blocks, sight, flags)
      out.set(pass, flags)
    }
    return out
  }
  /** Find what lies in front in a part of a view, so that a stroke that ends there need not wait for it. */
  look(view: StrokeView, window: Window): Sight {
    const key = JSON.stringify(view)
    if (this.sight?.key !== key) this.sight = new Sight(key, view, [...this.clouds.values()])
    this.sight.look(window)
    return this.sight
  }
}

/** How deep a view sees at each of its pixels, drawn block by block where it is asked for. */
class Sight {
  readonly spacing: number
  readonly depth: Float32Array
  private readonly windows: Window[][]
  private readonly drawn: Uint8Array[]

  constructor(
    readonly key: string,
    private readonly view: StrokeView,
    private readonly clouds: Blocks[],
  ) {
    this.spacing = Math.max(...clouds.map((c) => c.spacing), 1e-6)
    this.depth = new Float32Array(view.width * view.height).fill(Infinity)
    const pose = poseOf(view)
    this.windows = clouds.map((c) =>
      Array.from({ length: c.blocks }, (_, b) => c.window(b, pose, COVER_SPACINGS * this.spacing)),
    )
    this.drawn = clouds.map((c) => new Uint8Array(c.blocks))
  }
  look(window: Window) {
    // A place is compared with the pixel it is rounded to.
    const { left, right, top, bottom } = window
    const asked = { left: left - 1, right: right + 1, top: top - 1, bottom: bottom + 1 }
    this.clouds.forEach((cloud, c) => {
      for (let b = 0; b < cloud.blocks; b++)
        if (!this.drawn[c][b] && meet(this.windows[c][b], asked)) {
          this.drawn[c][b] = 1
          discDepths(cloud, b, this.view, COVER_SPACINGS * this.spacing, this.depth)
        }
    })
  }
}

/** Draw the discs of a block's points into the depths of a view. */
function discDepths(cloud: Blocks, block: number, view: StrokeView, radius: number, depth: Float32Array) {
  const { T, f, cx, cy } = poseOf(view)
  const [[xx, xy, xz, xt], [yx, yy, yz, yt], [zx, zy, zz, zt]] = T
  const { width, height } = view
  const { positions: p, normals: m } = cloud
  const end = 3 * cloud.end(block)
  for (let n = 3 * cloud.first(block); n < end; n += 3) {
    const i = p[n]
    const j = p[n + 1]
    const k = p[n + 2]
    const z = zx * i + zy * j + zz * k + zt
    if (z <= 1e-9) continue
    const x = xx * i + xy * j + xz * k + xt
    const y = yx * i + yy * j + yz * k + yt
    const a = xx * m[n] + xy * m[n + 1] + xz * m[n + 2]
    const b = yx * m[n] + yy * m[n + 1] + yz * m[n + 2]
    const c = zx * m[n] + zy * m[n + 1] + zz * m[n + 2]
    const u = (x / z) * f + cx
    const v = (y / z) * f + cy
    const r = Math.max((radius * f) / z, 0.5)
    const level = a * x + b * y + c * z
    const bottom = Math.min(Math.floor(v + r), height - 1)
    const right = Math.min(Math.floor(u + r), width - 1)
    const left = Math.max(Math.ceil(u - r), 0)
    for (let row = Math.max(Math.ceil(v - r), 0); row <= bottom; row++) {
      const down = (row - cy) / f
      for (let column = left; column <= right; column++) {
        const along = (column - cx) / f
        const slope = a * along + b * down + c
        let deep = Math.abs(slope) > 1e-6 ? level / slope : z
        const dx = along * deep - x
        const dy = down * deep - y
        if (dx * dx + dy * dy + (deep - z) * (deep - z) > radius * radius) {
          if (r > 1 || Math.abs(slope) <= 1e-6) continue
          deep = z
        }
        const at = row * width + column
        if (deep < depth[at]) depth[at] = deep
      }
    }
  }
}

function within(
  view: StrokeView,
  { window, holds }: Drawing,
  cloud: Blocks,
  blocks: number,
  sight: Sight | null,
  flags: Uint8Array,
) {
  const pose = poseOf(view)
  const { f, cx, cy } = pose
  const [[xx, xy, xz, xt], [yx, yy, yz, yt], [zx, zy, zz, zt]] = pose.T
  // The eye, as the object sees it.
  const ex = -(xx * xt + yx * yt + zx * zt)
  const ey = -(xy * xt + yy * yt + zy * zt)
  const ez = -(xz * xt + yz * yt + zz * zt)
  const { width, height } = view
  const { positions: p, normals: m, order } = cloud
  for (let block = 0; block < blocks; block++) {
    if (!meet(cloud.window(block, pose, 0), window)) continue
    for (let n = cloud.first(block); n < cloud.end(block); n++) {
      const i = p[3 * n]
      const j = p[3 * n + 1]
      const k = p[3 * n + 2]
      const z = zx * i + zy * j + zz * k + zt
      if (z <= 1e-9) continue
      const x = xx * i + xy * j + xz * k + xt
      const y = yx * i + yy * j + yz * k + yt
      const u = (x / z) * f + cx
      const v = (y / z) * f + cy
      if (!holds(u, v)) continue
      if (sight) {
        const column = Math.round(u)
        const row = Math.round(v)
        if (column < 0 || row < 0 || column >= width || row >= height) continue
        const facing = (ex - i) * m[3 * n] + (ey - j) * m[3 * n + 1] + (ez - k) * m[3 * n + 2]
        if (facing <= 0) continue
        const behind = z - sight.depth[row * width + column] - HIDDEN_SPACINGS * sight.spacing
        // A surface seen at a slant reaches deeper within a pixel.
        if (behind > 0) {
          const cos = Math.min(Math.max(facing / Math.sqrt(x * x + y * y + z * z), LEAST_COS), 1)
          if (behind > ((z / f) * Math.sqrt(1 - cos * cos)) / cos) continue
        }
      }
      mark(flags, order[n])
    }
  }
}

function inBall({ centres, radius_mm }: BallStroke, cloud: Blocks, blocks: number, flags: Uint8Array) {
  const limit = radius_mm * radius_mm
  const stretches = centres.slice(centres.length > 1 ? 1 : 0).map((to, n) => [centres[n], to])
  for (let block = 0; block < blocks; block++) {
    const low = cloud.bounds.subarray(6 * block, 6 * block + 3)
    const high = cloud.bounds.subarray(6 * block + 3, 6 * block + 6)
    const near = stretches.filter(([a, b]) =>
      [0, 1, 2].every(
        (k) => Math.min(a[k], b[k]) - radius_mm <= high[k] && Math.max(a[k], b[k]) + radius_mm >= low[k],
      ),
    )
    if (!near.length) continue
    for (let n = cloud.first(block); n < cloud.end(block); n++) {
      const at = cloud.positions.subarray(3 * n, 3 * n + 3)
      if (near.some(([a, b]) => awaySquared(at, a, b) <= limit)) mark(flags, cloud.order[n])
    }
  }
}

function mark(flags: Uint8Array, n: number) {
  flags[n >> 3] |= 1 << (n & 7)
}

function turnRound(flags: Uint8Array, count: number) {
  for (let k = 0; k < flags.length; k++) flags[k] ^= 0xff
  if (count & 7) flags[flags.length - 1] &= (1 << (count & 7)) - 1
}
