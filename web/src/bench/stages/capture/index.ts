import type { JobView } from '@/api/client'
import type { BenchContext } from '@/bench/context'
import type { StageDefinition } from '@/bench/stages/definition'
import ArrivalPanel from '@/bench/stages/capture/ArrivalPanel.vue'
import CapturePanel from '@/bench/stages/capture/CapturePanel.vue'
import DeskSight from '@/bench/stages/capture/DeskSight.vue'
import { handPart } from '@/bench/stages/capture/hand/hand'
import { steerTool } from '@/bench/stages/capture/hand/steerTool'
import { sheetHandle, suggestions } from '@/bench/stages/capture/sheetHandle'
import { sightHandle } from '@/bench/stages/capture/sight'

/** What the pedal does with a pass that runs. */
const nextAct = (job: JobView) => (job.shots ? 'shoot' : job.paused ? 'go_on' : 'pause')
const byHand = (context: BenchContext) => context.part('hand', handPart).on.value
const looks = (context: BenchContext) => context.part('sight', sightHandle).on

export const capture: StageDefinition = {
  name: 'capture',
  title: 'Capture',
  question: 'Is everything seen?',
  panels: [CapturePanel, ArrivalPanel],
  left: {
    panel: DeskSight,
    wanted: (context) => byHand(context) || (looks(context).value && !context.bench.capturing.value),
  },
  tools: [{ ...steerTool, wanted: byHand }],
  actions: (context) => {
    const { bench, goTo } = context
    const handle = context.part('capture', sheetHandle)
    // The sheet stands on its stage; go there first.
    const there = (act: () => void) => () => {
      goTo('capture')
      requestAnimationFrame(act)
    }
    const enabled = () => !bench.busy.value
    const running = () => bench.capturing.value
    const mine = () => !!running() && !bench.lookOnly.value
    const taken = () => !!bench.held.value && !bench.busy.value
    const suggested = suggestions(context)
    const start = there(() => handle.sheet?.start())
    return [
      { id: 'new-pass', title: 'Start a pass', group: 'Bench', key: 'N', enabled, run: start },
      {
        id: 'take-next',
        title: 'By hand: hold the head where it gains most',
        group: 'Pass',
        key: 'N',
        enabled: () => mine() && byHand(context),
        run: () => context.live.steer({ next: true }),
      },
      {
        id: 'pedal',
        title: 'Pass: start, pause, go on, take a shot',
        group: 'Pass',
        key: 'PageDown',
        enabled: () => mine() || (context.stage.value === 'capture' && enabled() && !!handle.sheet),
        run: () => (running() ? void bench.act(nextAct(running()!)) : start()),
      },
      {
        id: 'step-back',
        title: 'Pass: one stop back',
        group: 'Pass',
        key: 'PageUp',
        enabled: () => mine() && !!running()!.frames,
        run: () => void bench.act('step_back'),
      },
      {
        id: 'keep-pass',
        title: 'Pass: stop and keep what is there',
        group: 'Pass',
        key: 'End',
        enabled: () => mine() && !!running()!.frames,
        run: () => void bench.act('finish'),
      },
      {
        id: 'accept-pass',
        title: 'Pass: accept and place it',
        group: 'Pass',
        key: 'A',
        enabled: taken,
        run: there(() => handle.held?.accept()),
      },
      {
        id: 'drop-pass',
        title: 'Pass: throw away what was taken',
        group: 'Pass',
        key: 'Delete',
        enabled: taken,
        run: there(() => handle.held?.drop()),
      },
      {
        id: 'look-through',
        title: 'Look through the head',
        group: 'Bench',
        key: 'V',
        enabled: () => !bench.lookOnly.value && !byHand(context),
        run: there(() => (looks(context).value = !looks(context).value)),
      },
      {
        id: 'set-up-next',
        title: 'Set up the pass that adds most',
        group: 'Pass',
        key: 'Alt+P',
        enabled: () => enabled() && !bench.lookOnly.value && !!suggested.nexts.value.length,
        run: () => suggested.setUp(suggested.nexts.value[0]),
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
