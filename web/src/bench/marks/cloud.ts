import type { PointsData } from '@/bench/viewer/layers/points'
import type { MarkCloud } from '@/lib/blocks'

/** What marking needs of points that are shown; nothing of a pass without any. */
export function markCloud(data: PointsData | null): MarkCloud | null {
  if (!data?.count) return null
  const { count, origin, step, spacing, positions, normals } = data
  return { count, origin, step, spacing, positions, normals }
}
