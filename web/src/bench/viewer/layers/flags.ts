import type * as THREE from 'three'
import { flagged } from '@/lib/packed'

/** What was written into an attribute last. */
const written = new WeakMap<THREE.BufferAttribute, Uint8Array>()

/**
 * Write packed flags, or none, into an attribute of a byte each: only where they changed since, so that it is quick.
 * Returns which did, or null.
 */
export function writeFlags(attribute: THREE.BufferAttribute, flags: Uint8Array | null): Uint8Array | null {
  const values = attribute.array as Uint8Array
  const bytes = (values.length + 7) >> 3
  const before = written.get(attribute) ?? new Uint8Array(bytes)
  const now = flags ?? new Uint8Array(bytes)
  let [first, last] = [bytes, -1]
  for (let k = 0; k < bytes; k++) {
    if (before[k] === now[k]) continue
    if (last < 0) first = k
    last = k
    for (let n = 8 * k; n < Math.min(8 * k + 8, values.length); n++) values[n] = flagged(now, n) ? 1 : 0
  }
  written.set(attribute, now)
  if (last < 0) return null
  attribute.addUpdateRange(8 * first, Math.min(8 * last + 8, values.length) - 8 * first)
  attribute.needsUpdate = true
  return before.map((byte, k) => byte ^ now[k])
}
