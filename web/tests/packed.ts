import type { TypedArray } from '@/lib/packed'

const TYPES = new Map<unknown, string>([
  [Uint8Array, 'u1'],
  [Int8Array, 'i1'],
  [Uint16Array, 'u2'],
  [Uint32Array, 'u4'],
  [Float32Array, 'f4'],
])

/** A head and arrays as the server packs them: length, head, arrays each at a multiple of four. */
export function pack(head: object, arrays: Record<string, TypedArray>): ArrayBuffer {
  const table: Record<string, object> = {}
  let size = 0
  for (const [name, array] of Object.entries(arrays)) {
    table[name] = { type: TYPES.get(array.constructor), shape: [array.length], at: size }
    size += Math.ceil(array.byteLength / 4) * 4
  }
  let text = JSON.stringify({ ...head, arrays: table })
  text = text.padEnd(Math.ceil((text.length + 4) / 4) * 4 - 4)
  const buffer = new ArrayBuffer(4 + text.length + size)
  new DataView(buffer).setUint32(0, text.length, true)
  new Uint8Array(buffer, 4).set(new TextEncoder().encode(text))
  for (const [name, array] of Object.entries(arrays)) {
    const { at } = table[name] as { at: number }
    new Uint8Array(buffer, 4 + text.length + at).set(
      new Uint8Array(array.buffer, array.byteOffset, array.byteLength),
    )
  }
  return buffer
}

/** Points of a pass: `places` are multiples of the step. */
export function packedPoints(places: number[][], more: object = {}): ArrayBuffer {
  const count = places.length
  return pack(
    { count, origin: [10, 20, 30], step: 0.01, digest: 'd1', ...more },
    {
      positions: new Uint16Array(places.flat()),
      normals: new Int8Array(places.flatMap((_, n) => [127, -127, n, 0])),
      colours: new Uint8Array(places.flatMap((_, n) => [255, 0, n, 255])),
      frame: new Uint16Array(places.map((_, n) => n)),
      stands_for: new Uint16Array(count).fill(3),
      pixel: new Uint32Array(places.map((_, n) => 100_000 + n)),
    },
  )
}
