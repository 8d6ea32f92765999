import type { StageName } from '@/api/client'
import type { BenchContext } from '@/bench/context'
import { stageOf } from '@/bench/stages'
import type { Action } from '@/stores/actions'

/** Every operation by its key, as the server's catalogue has it. */
export function operationActions(context: BenchContext): Action[] {
  const { bench } = context
  return (bench.catalogue.value?.operations ?? []).map((o) => ({
    id: `op-${o.name}`,
    title: o.title,
    group: 'Operations',
    key: o.key,
    enabled: () => !bench.busy.value,
    run: () => {
      const own = stageOf(o.stage as StageName)?.runs?.[o.name]
      if (own) own(context)
      else void bench.operation(o.name)
    },
  }))
}
