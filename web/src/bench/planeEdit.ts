export type Vector = [number, number, number]
/** n·p = d, as [nx, ny, nz, d]; the side in front of it is kept. */
export type Plane = [number, number, number, number]

/** What a hand did to a plane: pushed along its normal (mm), tilted about two of its directions (degrees), flipped. */
export interface PlaneEdit {
  base: Plane
  corners: number[]
  push: number
  across: number
  along: number
  flipped: boolean
}

const dot = (a: Vector, b: Vector) => a[0] * b[0] + a[1] * b[1] + a[2] * b[2]
const cross = (a: Vector, b: Vector): Vector => [
  a[1] * b[2] - a[2] * b[1],
  a[2] * b[0] - a[0] * b[2],
  a[0] * b[1] - a[1] * b[0],
]
const scaled = (a: Vector, k: number): Vector => [a[0] * k, a[1] * k, a[2] * k]
const sum = (...v: Vector[]): Vector => [0, 1, 2].map((k) => v.reduce((t, a) => t + a[k], 0)) as Vector
const unit = (a: Vector) => scaled(a, 1 / Math.sqrt(dot(a, a)))

/** A vector turned about a unit axis by degrees (Rodrigues' rotation formula). */
export function turned(v: Vector, axis: Vector, degrees: number): Vector {
  const a = (degrees * Math.PI) / 180
  return sum(
    scaled(v, Math.cos(a)),
    scaled(cross(axis, v), Math.sin(a)),
    scaled(axis, dot(axis, v) * (1 - Math.cos(a))),
  )
}

/** A plane as it was found, with nothing done to it; corners (4 × 3) are those it is drawn with. */
export const untouched = (base: Plane, corners: ArrayLike<number>): PlaneEdit => ({
  base,
  corners: Array.from(corners),
  push: 0,
  across: 0,
  along: 0,
  flipped: false,
})

/** The plane after the edit, and the corners it is drawn with. */
export function edited(edit: PlaneEdit): { plane: Plane; corners: Float32Array } {
  const at = (n: number) => edit.corners.slice(3 * n, 3 * n + 3) as Vector
  const [a, b, c, d] = [at(0), at(1), at(2), at(3)]
  const middle = scaled(sum(a, b, c, d), 0.25)
  const side = unit(sum(b, scaled(a, -1)))
  const other = unit(sum(d, scaled(a, -1)))
  // A handle lifted at the end of one side turns the plane about the other one.
  const tilt = (v: Vector) => turned(turned(v, other, -edit.along), side, edit.across)
  const normal = unit(tilt(cross(side, other)))
  const pivot = sum(middle, scaled(normal, edit.push))
  const corners = [a, b, c, d].map((p) => sum(pivot, tilt(sum(p, scaled(middle, -1)))))
  const sign = edit.flipped ? -1 : 1
  const facing = scaled(normal, sign)
  return { plane: [...facing, dot(facing, pivot)] as Plane, corners: new Float32Array(corners.flat()) }
}
