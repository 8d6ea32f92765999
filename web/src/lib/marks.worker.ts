import type { MarkCloud } from './blocks'
import { Marker } from './marked'
import type { Marks } from './strokes'

/** Marks points in a thread of its own, so that drawing never waits for it. */
export type MarkRequest =
  { kind: 'points'; pass: number; cloud: MarkCloud | null } | { kind: 'mark'; id: number; marks: Marks }
export interface MarkAnswer {
  id: number
  flags: Map<number, Uint8Array>
}
const marker = new Marker()
self.onmessage = ({ data }: MessageEvent<MarkRequest>) => {
  if (data.kind === 'points') marker.set(data.pass, data.cloud)
  else self.postMessage({ id: data.id, flags: marker.flags(data.marks) } satisfies MarkAnswer)
}
