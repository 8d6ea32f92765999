import type { Window } from './blocks'
import type { Pixel, ScreenStroke } from './strokes'

/** What was drawn in a view: the window it lies in, and whether a pixel lies in it. */
export interface Drawing {
  window: Window
  holds: (u: number, v: number) => boolean
}

/** The window that pixels lie in, and what lies within a reach of them. */
export function windowOf(points: Pixel[], reach: number): Window {
  const us = points.map((q) => q[0])
  const vs = points.map((q) => q[1])
  return {
    left: Math.min(...us) - reach,
    right: Math.max(...us) + reach,
    top: Math.min(...vs) - reach,
    bottom: Math.max(...vs) + reach,
  }
}

/** By the even-odd rule, in the box, or near the path. A place is compared only with edges that reach its row. */
export function outlineOf({ shape, points, radius_px }: ScreenStroke): Drawing {
  const us = Float64Array.from(points, (q) => q[0])
  const vs = Float64Array.from(points, (q) => q[1])
  const reach = shape === 'brush' ? radius_px : 0
  const window = windowOf(points, reach)
  const { left, right, top, bottom } = window
  const boxed = (u: number, v: number) => u >= left && u <= right && v >= top && v <= bottom
  if (shape === 'box') return { window, holds: boxed }
  const closed = shape !== 'brush'
  const rows = rowsOf(vs, top, bottom, reach, closed)
  const near = closed ? crossings(us, vs) : besides(us, vs, radius_px * radius_px)
  const exact = (u: number, v: number) => near(u, v, rows[Math.floor(v - top)])
  const quick = closed ? painted(us, vs, window, exact) : exact
  return { window, holds: (u, v) => boxed(u, v) && quick(u, v) }
}

const [INSIDE, EDGE] = [1, 2]
const ROUNDING_PX = 1e-3

/** As `exact` says; asked only for pixels that an edge runs through, for all others it was asked beforehand. */
function painted(
  us: Float64Array,
  vs: Float64Array,
  window: Window,
  exact: Drawing['holds'],
): Drawing['holds'] {
  const left = Math.floor(window.left)
  const top = Math.floor(window.top)
  const width = Math.floor(window.right) - left + 1
  const height = Math.floor(window.bottom) - top + 1
  const cells = new Uint8Array(width * height)
  for (let n = 0; n < us.length; n++) {
    const to = n + 1 === us.length ? 0 : n + 1
    const [high, low] = vs[n] < vs[to] ? [n, to] : [to, n]
    const tall = vs[low] - vs[high]
    const last = Math.floor(vs[low]) - top
    for (let row = Math.floor(vs[high]) - top; row <= last; row++) {
      const enters = tall ? Math.max((top + row - vs[high]) / tall, 0) : 0
      const leaves = tall ? Math.min((top + row + 1 - vs[high]) / tall, 1) : 1
      const a = us[high] + enters * (us[low] - us[high])
      const b = us[high] + leaves * (us[low] - us[high])
      const first = Math.max(Math.floor(Math.min(a, b) - ROUNDING_PX) - left, 0)
      const end = Math.min(Math.floor(Math.max(a, b) + ROUNDING_PX) - left, width - 1)
      cells.fill(EDGE, row * width + first, row * width + end + 1)
    }
  }
  for (let row = 0; row < height; row++) {
    let before = EDGE
    for (let at = row * width; at < (row + 1) * width; at++) {
      if (cells[at] !== EDGE && before === EDGE) {
        const [u, v] = [left + at - row * width + 0.5, top + row + 0.5]
        const within = v >= window.top && v <= window.bottom && exact(u, v)
        cells[at] = within ? INSIDE : 0
      } else if (cells[at] !== EDGE) cells[at] = before
      before = cells[at]
    }
  }
  return (u, v) => {
    const cell = cells[(Math.floor(v) - top) * width + Math.floor(u) - left]
    return cell === EDGE ? exact(u, v) : cell === INSIDE
  }
}

/** For each row of pixels from `top` on, the edges that reach it; an edge is named by where it begins. */
function rowsOf(vs: Float64Array, top: number, bottom: number, reach: number, closed: boolean): Int32Array[] {
  const rows: number[][] = Array.from({ length: Math.floor(bottom - top) + 1 }, () => [])
  const edges = closed || vs.length === 1 ? vs.length : vs.length - 1
  for (let n = 0; n < edges; n++) {
    const [a, b] = [vs[n], vs[(n + 1) % vs.length]]
    const last = Math.floor(Math.max(a, b) + reach - top)
    for (let row = Math.floor(Math.min(a, b) - reach - top); row <= last; row++) rows[row]?.push(n)
  }
  return rows.map((row) => Int32Array.from(row))
}

function crossings(us: Float64Array, vs: Float64Array) {
  const count = us.length
  return (u: number, v: number, edges: Int32Array) => {
    let odd = false
    for (let k = 0; k < edges.length; k++) {
      const before = edges[k]
      const n = before + 1 === count ? 0 : before + 1
      if (
        vs[n] > v !== vs[before] > v &&
        u < us[n] + ((v - vs[n]) / (vs[before] - vs[n])) * (us[before] - us[n])
      )
        odd = !odd
    }
    return odd
  }
}

function besides(us: Float64Array, vs: Float64Array, limit: number) {
  const count = us.length
  return (u: number, v: number, edges: Int32Array) => {
    for (let k = 0; k < edges.length; k++) {
      const from = edges[k]
      const to = from + 1 === count ? from : from + 1
      const [du, dv] = [us[to] - us[from], vs[to] - vs[from]]
      const length = du * du + dv * dv
      const along = (u - us[from]) * du + (v - vs[from]) * dv
      const share = length ? Math.min(Math.max(along / length, 0), 1) : 0
      const [x, y] = [u - us[from] - share * du, v - vs[from] - share * dv]
      if (x * x + y * y <= limit) return true
    }
    return false
  }
}
