/** A view as steps keep it: where somebody stood and how wide they looked. */
export interface StrokeView {
  T_view_object: number[][]
  fov_deg: number
  width: number
  height: number
}
export type Pixel = [number, number]
export type Outline = 'lasso' | 'polygon' | 'box' | 'brush'

/** An area drawn in a view: through the object, or only what is seen of it. */
export interface ScreenStroke {
  shape: Outline
  points: Pixel[]
  radius_px: number
  view: StrokeView
  add: boolean
  through: boolean
}
/** Everything within a radius of the path of a ball's centre. */
export interface BallStroke {
  shape: 'ball'
  centres: [number, number, number][]
  radius_mm: number
  add: boolean
}
/** Everything that hangs together with a place. */
export interface JoinedStroke {
  shape: 'joined'
  at: [number, number, number]
  gap_mm: number
  crease_deg: number
  add: boolean
}
export type Stroke = ScreenStroke | BallStroke | JoinedStroke

/** What a hand marked, as steps keep it. */
export interface Marks {
  strokes: Stroke[]
  invert: boolean
}

/** A path with fewer corners that runs nowhere farther than `reach` off it (Douglas and Peucker 1973). */
export function simplified(path: Pixel[], reach: number): Pixel[] {
  if (path.length < 3) return path
  const kept = new Uint8Array(path.length)
  kept[0] = kept[path.length - 1] = 1
  const open: [number, number][] = [[0, path.length - 1]]
  while (open.length) {
    const [first, last] = open.pop()!
    let farthest = reach
    let corner = -1
    for (let n = first + 1; n < last; n++) {
      const away = Math.sqrt(awaySquared(path[n], path[first], path[last]))
      if (away > farthest) [farthest, corner] = [away, n]
    }
    if (corner < 0) continue
    kept[corner] = 1
    open.push([first, corner], [corner, last])
  }
  return path.filter((_, n) => kept[n])
}

/** Squared distance of a place to a stretch of a line, in any number of dimensions. */
export function awaySquared(p: ArrayLike<number>, a: ArrayLike<number>, b: ArrayLike<number>): number {
  let along = 0
  let length = 0
  for (let k = 0; k < p.length; k++) {
    along += (p[k] - a[k]) * (b[k] - a[k])
    length += (b[k] - a[k]) ** 2
  }
  const share = length ? Math.min(Math.max(along / length, 0), 1) : 0
  let away = 0
  for (let k = 0; k < p.length; k++) away += (p[k] - a[k] - share * (b[k] - a[k])) ** 2
  return away
}
