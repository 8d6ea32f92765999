import type { StageName } from '@/api/client'
import type { BenchContext } from '@/bench/context'
import { stageOf } from '@/bench/stages'
import type { Action } from '@/stores/actions'

/** Do an operation with what it has by itself, or what its stage has in place of that: what needs a hand opens its card. */
export function begin(context: BenchContext, name: string) {
  const stage = context.bench.catalogue.value?.operations.find((o) => o.name === name)?.stage
  const own = stage && stageOf(stage as StageName)?.runs?.[name]
  if (own) own(context)
  else void context.bench.operation(name)
}

/** Every operation by its key, as the server's catalogue has it. */
export function operationActions(context: BenchContext): Action[] {
  const { bench } = context
  return (bench.catalogue.value?.operations ?? []).map((o) => ({
    id: `op-${o.name}`,
    title: o.title,
    group: 'Operations',
    key: o.key,
    enabled: () => !bench.busy.value,
    run: () => begin(context, o.name),
  }))
}
