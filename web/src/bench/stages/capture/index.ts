import type { StageDefinition } from '@/bench/stages/definition'
import CapturePanel from '@/bench/stages/capture/CapturePanel.vue'
import { sheetHandle } from '@/bench/stages/capture/sheetHandle'

export const capture: StageDefinition = {
  name: 'capture',
  title: 'Capture',
  question: 'Is everything seen?',
  panels: [CapturePanel],
  actions: (context) => {
    const { bench, goTo } = context
    const handle = context.part('capture', sheetHandle)
    // The sheet stands on its stage; go there first.
    const there = (act: () => void) => () => {
      goTo('capture')
      requestAnimationFrame(act)
    }
    const enabled = () => !bench.busy.value
    return [
      {
        id: 'new-pass',
        title: 'Start a pass on the turntable',
        group: 'Bench',
        key: 'N',
        enabled,
        run: there(() => handle.sheet?.start()),
      },
      {
        id: 'import',
        title: 'Import a capture',
        group: 'Bench',
        key: 'I',
        enabled,
        run: there(() => handle.sheet?.browse()),
      },
    ]
  },
}
