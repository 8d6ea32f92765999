import type { BenchContext } from '@/bench/context'
import { STAGES } from '@/bench/stages'
import type { Action } from '@/stores/actions'

export function runSheetActions(context: BenchContext, runRecipe: () => void): Action[] {
  const { bench, view, stage, goTo } = context
  const enabled = () => !bench.busy.value
  const next = () => STAGES[STAGES.findIndex((s) => s.name === stage.value) + 1]
  return [
    {
      id: 'undo',
      title: 'Undo',
      group: 'Run sheet',
      key: 'Ctrl+Z',
      enabled,
      run: () => void bench.move('undo'),
    },
    {
      id: 'redo',
      title: 'Redo',
      group: 'Run sheet',
      key: 'Ctrl+Shift+Z',
      enabled,
      run: () => void bench.move('redo'),
    },
    { id: 'recipe', title: 'Run the chosen recipe', group: 'Bench', key: 'R', enabled, run: runRecipe },
    {
      id: 'stop',
      title: 'Put the tool away, or stop what is computing',
      group: 'Bench',
      key: 'Escape',
      enabled: () => !!view.tool.value || (!!bench.job.value && !bench.lookOnly.value),
      run: () => (view.tool.value ? view.use(null) : void bench.act('cancel')),
    },
    {
      id: 'next',
      title: 'What the tool does, or the next stage',
      group: 'Bench',
      key: 'Enter',
      enabled: () => !view.tool.value || (!!view.tool.value.enter && enabled()),
      run: () => (view.tool.value ? view.tool.value.enter!(context) : next() && goTo(next().name)),
    },
  ]
}
