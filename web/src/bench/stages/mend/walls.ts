import { ref } from 'vue'
import type { BenchContext } from '@/bench/context'
import { surfaceFigures } from '@/bench/surfaceFigures'

const WIDE = 3 // thinnest walls that are wanted, up to which thickness is told by colour

/** How thick the body is, as colours of its surface: ochre where it is thin. */
export function wallsPart(context: BenchContext) {
  const range = ref(0)
  const figures = surfaceFigures(context, 'walls')
  function show(least: number) {
    range.value = WIDE * least
    return figures.show({ range: range.value, thin: true })
  }
  return { ...figures, range, show }
}
