import { computed } from 'vue'
import type { BenchContext } from '@/bench/context'
import { newestReport } from '@/bench/newest'
import { surfaceFigures } from '@/bench/surfaceFigures'

export interface Told {
  against: string
  tolerance_mm: number
  mean_mm: number
  rms_mm: number
  p95_mm: number
  max_mm: number
  known_share: number
  within_share: number | null
  range_mm: number
  bins: number[]
  extremes: { at: number[]; off_mm: number }[]
}

/** How far the surface lies off what it was held against, as colours of it. */
export function deviationOf(context: BenchContext) {
  const { bench, view } = context
  const figures = surfaceFigures(context, 'deviation')
  const told = newestReport<Told>(context, 'deviation')
  const against = computed(() => [
    ...(bench.bench.value?.takes ?? []).map((t) => t.name),
    ...(bench.bench.value?.passes ?? []).filter((p) => p.placed && !p.off).map((p) => p.title),
  ])
  async function show() {
    if (!told.value || !view.viewer.value) return
    const { range_mm, tolerance_mm } = told.value
    await figures.show({ range: range_mm, thin: false, band: tolerance_mm })
  }
  return { ...figures, told, against, show }
}
export const deviationPart = (context: BenchContext) => context.part('deviation', deviationOf)
