/** How far a reduced surface lies off (mm) at a number of triangles. */
export interface CurvePoint {
  triangles: number
  max_mm: number
  p95_mm: number
  mean_mm: number
}
const KINDS = ['max_mm', 'p95_mm', 'mean_mm'] as const
const LEAST = 1e-6

/** The curve at a number of triangles: a power of the count between its points. */
export function readOff(curve: CurvePoint[], triangles: number): CurvePoint {
  const sorted = [...curve].sort((a, b) => a.triangles - b.triangles)
  const count = Math.min(Math.max(triangles, sorted[0].triangles), sorted[sorted.length - 1].triangles)
  const right = Math.max(
    sorted.findIndex((p) => p.triangles >= count),
    1,
  )
  const [a, b] = [sorted[right - 1], sorted[right]]
  const share = Math.log(count / a.triangles) / Math.log(b.triangles / a.triangles)
  const out: CurvePoint = { triangles, max_mm: 0, p95_mm: 0, mean_mm: 0 }
  for (const kind of KINDS) {
    // With all triangles nothing moves: towards that a power has no end, and a straight line does.
    if (a[kind] < LEAST || b[kind] < LEAST)
      out[kind] = a[kind] + ((b[kind] - a[kind]) * (count - a.triangles)) / (b.triangles - a.triangles)
    else out[kind] = Math.exp(Math.log(a[kind]) * (1 - share) + Math.log(b[kind]) * share)
  }
  return out
}
export const meanAt = (curve: CurvePoint[], triangles: number) => readOff(curve, triangles).mean_mm

/** The fewest triangles whose surface moves by no more than a mean distance (mm). */
export function countAt(curve: CurvePoint[], mean: number): number {
  const counts = curve.map((p) => p.triangles)
  let [low, high] = [Math.min(...counts), Math.max(...counts)]
  for (let k = 0; k < 40 && high - low > 1; k++) {
    const middle = Math.sqrt(low * high)
    if (meanAt(curve, middle) > mean) low = middle
    else high = middle
  }
  return Math.round(high)
}
