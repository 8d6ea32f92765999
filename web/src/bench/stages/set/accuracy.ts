import type { BenchContext } from '@/bench/context'
import { newestReport } from '@/bench/newest'
import { surfaceFigures } from '@/bench/surfaceFigures'

export interface Accuracy {
  half_mm: number
  p95_mm: number
  expected_mm: number
  repeatability_mm: number
  measured_share: number
  averaged: number
  range_mm: number
  bins: number[]
}

/** How sure each place of the surface is, as colours of it. */
export function accuracyOf(context: BenchContext) {
  const { view } = context
  const figures = surfaceFigures(context, 'accuracy')
  const told = newestReport<Accuracy>(context, 'accuracy')
  async function show() {
    if (told.value && view.viewer.value) await figures.show({ range: told.value.range_mm, thin: false })
  }
  return { ...figures, told, show }
}
export const accuracyPart = (context: BenchContext) => context.part('accuracy', accuracyOf)
