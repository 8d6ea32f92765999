import { operationActions } from '@/bench/actions/operations'
import { runSheetActions } from '@/bench/actions/runSheet'
import { stageActions } from '@/bench/actions/stages'
import { toolActions } from '@/bench/actions/tools'
import { viewActions } from '@/bench/actions/view'
import type { BenchContext } from '@/bench/context'
import { STAGES } from '@/bench/stages'
import type { Action } from '@/stores/actions'

/** All actions of the bench: its own, those of every stage, the tools of the one that is shown, and all operations. */
export function benchActions(context: BenchContext, runRecipe: () => void): Action[] {
  return [
    ...runSheetActions(context, runRecipe),
    ...viewActions(context),
    ...stageActions(context),
    ...toolActions(context),
    ...operationActions(context),
    ...STAGES.flatMap((s) => s.actions?.(context) ?? []),
  ]
}
