import type { MarkCloud, Window } from './blocks'
import { Marker } from './marked'
import type { Marks, Pixel, Stroke, StrokeView } from './strokes'

/** Marks points in a thread of its own, so that drawing never waits for it. */
export type MarkRequest =
  | { kind: 'points'; pass: number; cloud: MarkCloud | null }
  | { kind: 'look'; view: StrokeView; window: Window }
  | { kind: 'mark'; id: number; marks: Marks }
/** Flags of every pass; none after a look. */
export type MarkAnswer = { id: number; flags: Map<number, Uint8Array> } | null

const marker = new Marker()
warmUp()
self.onmessage = ({ data }: MessageEvent<MarkRequest>) => {
  if (data.kind === 'points') return marker.set(data.pass, data.cloud)
  if (data.kind === 'look') marker.look(data.view, data.window)
  const answer = data.kind === 'mark' ? { id: data.id, flags: marker.flags(data.marks) } : null
  self.postMessage(answer satisfies MarkAnswer)
}

/** Strokes of each kind over a made-up wall, so that the first true one does not wait for its loops to be compiled. */
function warmUp() {
  const side = 200
  const count = side * side
  const places = Array.from({ length: count }, (_, n) => [n % side, Math.floor(n / side), 0])
  const wall = {
    count,
    origin: [0, 0, 0] as [number, number, number],
    step: 1,
    spacing: 1,
    positions: Uint16Array.from(places.flat()),
    normals: Int8Array.from(places.flatMap(() => [0, 0, -127, 0])),
  }
  const view = {
    T_view_object: [
      [1, 0, 0, -side / 2],
      [0, 1, 0, -side / 2],
      [0, 0, 1, side],
      [0, 0, 0, 1],
    ],
    fov_deg: 60,
    width: side,
    height: side,
  }
  const points: Pixel[] = [
    [10, 10],
    [190, 20],
    [180, 190],
    [20, 180],
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
