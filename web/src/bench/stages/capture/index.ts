import type { StageDefinition } from '@/bench/stages/definition'
import ArrivalPanel from '@/bench/stages/capture/ArrivalPanel.vue'
import CapturePanel from '@/bench/stages/capture/CapturePanel.vue'
import { sheetHandle } from '@/bench/stages/capture/sheetHandle'

export const capture: StageDefinition = {
  name: 'capture',
  title: 'Capture',
  question: 'Is everything seen?',
  panels: [CapturePanel, ArrivalPanel],
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
        title: 'Bring in scans',
        group: 'Bench',
        key: 'I',
        enabled,
        run: there(() => handle.arrivals?.browse()),
      },
    ]
  },
}
