import type { BenchContext } from '@/bench/context'
import { findings } from '@/bench/findings'
import { replayingPart } from '@/bench/sheet/replaying'
import { savingPart } from '@/bench/sheet/saving'
import { STAGES } from '@/bench/stages'
import type { Action } from '@/stores/actions'

export function runSheetActions(context: BenchContext, runRecipe: () => void): Action[] {
  const { bench, view, stage, goTo } = context
  const enabled = () => !bench.busy.value
  const steps = () => bench.bench.value?.steps ?? []
  const head = () =>
    steps()
      .filter((s) => !s.undone)
      .slice(-1)[0]?.after
  /** The step so many before or behind the one that is shown. */
  const step = (by: number) => steps()[steps().findIndex((s) => s.after === bench.bench.value?.snapshot) + by]
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
      title: 'Put the tool away, come back from looking back, or stop what is computing',
      group: 'Bench',
      key: 'Escape',
      enabled: () =>
        !!view.tool.value || bench.lookingBack.value || (!!bench.job.value && !bench.lookOnly.value),
      run: () => {
        if (view.tool.value) view.use(null)
        else if (bench.lookingBack.value) void bench.lookAt(null)
        else void bench.act('cancel')
      },
    },
    {
      id: 'look-back',
      title: 'Look one step back',
      group: 'Run sheet',
      key: 'Shift+Z',
      enabled: () => !bench.job.value && step(-1) !== undefined,
      run: () => void bench.lookAt(step(-1)!.after),
    },
    {
      id: 'look-forward',
      title: 'Look one step on',
      group: 'Run sheet',
      key: 'Shift+X',
      enabled: () => !bench.job.value && step(1) !== undefined,
      run: () => void bench.lookAt(step(1)!.undone || step(1)!.after !== head() ? step(1)!.after : null),
    },
    {
      id: 'replay',
      title: 'Do changed steps again',
      group: 'Run sheet',
      key: 'Shift+U',
      enabled: () => enabled() && replayingPart(context).changes.value.length > 0,
      run: () => void replayingPart(context).replay(),
    },
    {
      id: 'save-recipe',
      title: 'Save steps as a recipe',
      group: 'Run sheet',
      key: 'Shift+S',
      enabled: () => steps().length > 0,
      run: savingPart(context).begin,
    },
    {
      id: 'next-finding',
      title: 'Go to the next finding',
      group: 'Findings',
      key: 'Shift+N',
      run: () => findings(context).step(1),
    },
    {
      id: 'previous-finding',
      title: 'Go to the finding before',
      group: 'Findings',
      key: 'Shift+J',
      run: () => findings(context).step(-1),
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
