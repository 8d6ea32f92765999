import type { BenchContext } from '@/bench/context'
import type { Action } from '@/stores/actions'

/** Every operation by its key, as the server's catalogue has it. */
export function operationActions({ bench }: BenchContext): Action[] {
  return (bench.catalogue.value?.operations ?? []).map((o) => ({
    id: `op-${o.name}`,
    title: o.title,
    group: 'Operations',
    key: o.key,
    enabled: () => !bench.busy.value,
    run: () => void bench.operation(o.name),
  }))
}
