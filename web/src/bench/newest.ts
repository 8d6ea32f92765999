import { computed } from 'vue'
import type { BenchContext } from '@/bench/context'

/** What the newest step reports, where an operation made it: after any other the surface may be another one. */
export const newestReport = <T>({ bench }: Pick<BenchContext, 'bench'>, operation: string) =>
  computed(() => {
    const last = (bench.bench.value?.steps ?? []).filter((s) => !s.undone).slice(-1)[0]
    return last?.operation === operation ? (last.report as unknown as T) : null
  })
