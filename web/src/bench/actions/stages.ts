import type { BenchContext } from '@/bench/context'
import { STAGES } from '@/bench/stages'
import type { Action } from '@/stores/actions'

export function stageActions({ goTo }: BenchContext): Action[] {
  return STAGES.map((s, n) => ({
    id: `stage-${s.name}`,
    title: `Stage: ${s.title}`,
    group: 'Stages',
    key: `Alt+${n + 1}`,
    run: () => goTo(s.name),
  }))
}
