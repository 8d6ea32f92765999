import type { MarkCloud, Window } from './blocks'
import { Marker } from './marked'
import type { Marks, Pixel, Stroke, StrokeView } from './strokes'

/** Marks points in a thread of its own, so that drawing never waits for it. */
export type MarkRequest =
  | { kind: 'points'; pass: number; cloud: MarkCloud | null }
  | { kind: 'look'; view: StrokeView; window: Window }
  | { kind: 'mark'; id: number; marks: Marks; lightly: boolean }
  | { kind: 'enough' }
/** Flags of every pass, at first only those of the points that are shown lightly; none after a look. */
export type MarkAnswer = { id: number; flags: Map<number, Uint8Array>; whole: boolean } | null

/** When all points are marked, not only those shown lightly: unless the service did it by then. */
const WHOLE_AFTER_MS = 400
const marker = new Marker()
let wholeLater = 0
warmUp()
self.onmessage = ({ data }: MessageEvent<MarkRequest>) => {
  if (data.kind === 'points') return marker.set(data.pass, data.cloud)
  if (data.kind === 'look') {
    marker.look(data.view, data.window)
    return answer(null)
  }
  self.clearTimeout(wholeLater)
  if (data.kind === 'enough') return
  const { id, marks, lightly } = data
  if (!lightly || marker.share >= 1) return answer({ id, flags: marker.flags(marks), whole: true })
  answer({ id, flags: marker.flags(marks, marker.share), whole: false })
  wholeLater = self.setTimeout(() => answer({ id, flags: marker.flags(marks), whole: true }), WHOLE_AFTER_MS)
}
function answer(found: MarkAnswer) {
  self.postMessage(found)
}

/** Strokes of each kind over a made-up wall, so that the first true one does not wait for its loops to be compiled. */
function warmUp() {
  const side = 200
  const count = side * side
  const places = Array.from({ length: count }, (_, n) => [n % side, Math.floor(n / side), 0])
  const wall = {
    count,
    origin: [0.5, 0.5, 0.5] as [number, number, number],
    step: 0.99,
    spacing: 1.01,
    positions: Uint16Array.from(places.flat()),
    normals: Int8Array.from(places.flatMap(() => [0, 0, -127, 0])),
  }
  const view = {
    T_view_object: [
      [0.8, 0.6, 0.01, -0.7 * side],
      [-0.6, 0.8, 0.01, -0.1 * side],
      [0.01, 0.01, 0.99, 1.01 * side],
      [0, 0, 0, 1],
    ],
    fov_deg: 60,
    width: side,
    height: side,
  }
  const points: Pixel[] = [
    [10.5, 10.5],
    [190.5, 20.5],
    [180.5, 190.5],
    [20.5, 180.5],
  ]
  const screen = { points, radius_px: 30, view, add: true }
  const strokes: Stroke[] = [
    { ...screen, shape: 'lasso', through: true },
    { ...screen, shape: 'lasso', through: false },
    { ...screen, shape: 'brush', through: false },
    {
      shape: 'ball',
      centres: [
        [100, 100, 0],
        [120, 120, 0],
      ],
      radius_mm: 30,
      add: true,
    },
  ]
  const trial = new Marker()
  trial.set(0, wall)
  for (const stroke of strokes) trial.flags({ strokes: [stroke], invert: false })
}
