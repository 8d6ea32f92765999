/** A head and typed arrays, as the server packs points and previews. */
export interface Packed<Head> {
  head: Head
  arrays: Record<string, TypedArray>
}
export type TypedArray =
  Uint8Array | Int8Array | Uint16Array | Int16Array | Uint32Array | Int32Array | Float32Array
interface Entry {
  type: string
  shape: number[]
  at: number
}
const KINDS = {
  u1: Uint8Array,
  i1: Int8Array,
  u2: Uint16Array,
  i2: Int16Array,
  u4: Uint32Array,
  i4: Int32Array,
  f4: Float32Array,
} as const

/** Read what the server packed; the arrays lie in the buffer, nothing is copied. Throws for anything else. */
export function unpack<Head>(buffer: ArrayBuffer): Packed<Head> {
  const length = new DataView(buffer).getUint32(0, true)
  const { arrays: table, ...head } = JSON.parse(new TextDecoder().decode(new Uint8Array(buffer, 4, length)))
  const arrays: Record<string, TypedArray> = {}
  for (const [name, { type, shape, at }] of Object.entries(table as Record<string, Entry>)) {
    const Kind = KINDS[type as keyof typeof KINDS]
    const count = shape.reduce((product, n) => product * n, 1)
    arrays[name] = new Kind(buffer, 4 + length + at, count)
  }
  return { head: head as Head, arrays }
}

/** Whether bit `n` of packed flags is set; the lowest bit of a byte comes first. */
export const flagged = (flags: Uint8Array, n: number) => ((flags[n >> 3] >> (n & 7)) & 1) === 1
