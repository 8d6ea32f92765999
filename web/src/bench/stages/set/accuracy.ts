import { computed } from 'vue'
import type { BenchContext } from '@/bench/context'
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
  const { bench, view } = context
  const figures = surfaceFigures(context, 'accuracy')
  /** The newest step, where that is the accuracy: after any other the surface may be another one. */
  const told = computed(() => {
    const steps = (bench.bench.value?.steps ?? []).filter((s) => !s.undone)
    const last = steps[steps.length - 1]
    return last?.operation === 'accuracy' ? (last.report as unknown as Accuracy) : null
  })
  async function show() {
    if (told.value && view.viewer.value) await figures.show({ range: told.value.range_mm, thin: false })
  }
  return { ...figures, told, show }
}
export const accuracyPart = (context: BenchContext) => context.part('accuracy', accuracyOf)
