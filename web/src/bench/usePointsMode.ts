import { onBeforeUnmount, onMounted } from 'vue'
import type { BenchContext } from '@/bench/context'

/** Show the passes' points as long as a card stands open that marks something on them: a surface would cover that. */
export function usePointsMode({ bench, view }: BenchContext) {
  let before = view.mode.value
  onMounted(() => {
    before = view.mode.value
    if (bench.bench.value?.mesh) view.mode.value = 'passes'
  })
  onBeforeUnmount(() => {
    if (view.mode.value === 'passes') view.mode.value = before
  })
}
