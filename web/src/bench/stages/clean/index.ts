import type { BenchContext } from '@/bench/context'
import type { StageDefinition, ToolDefinition } from '@/bench/stages/definition'
import GhostForm from '@/bench/stages/clean/GhostForm.vue'
import UnansweredPanel from '@/bench/stages/clean/UnansweredPanel.vue'
import { UNANSWERED_KEY, unansweredPart } from '@/bench/stages/clean/unanswered'
import StandCutForm from '@/bench/stages/clean/StandCutForm.vue'
import { standCut } from '@/bench/stages/clean/standCut'
import MarkForm from '@/bench/marks/MarkForm.vue'
import { markActions } from '@/bench/marks/actions'
import { markingPart } from '@/bench/marks/marking'
import { MARK_TOOLS } from '@/bench/marks/tools'
import PreviewedForm from '@/bench/worksheet/PreviewedForm.vue'
import { DrawLine } from '@/bench/viewer/tools/DrawLine'
import { Pick } from '@/bench/viewer/tools/Pick'
import { PushPlane } from '@/bench/viewer/tools/PushPlane'

const push: ToolDefinition = {
  name: 'push-plane',
  card: 'stand_cut',
  title: 'Push plane',
  key: 'M',
  hint: 'Drag the diamond to push, a ball to tilt. Enter takes away.',
  enter: (context) => void context.part('standCut', standCut).use(),
  make: (context) => (view) => {
    const cut = context.part('standCut', standCut)
    return new PushPlane(view, context.view.viewer.value!.planes, cut.drag)
  },
}
const line: ToolDefinition = {
  name: 'draw-line',
  card: 'stand_cut',
  title: 'Draw line',
  key: 'J',
  hint: 'What lies below the line goes. Shift: steps of 15°. Space: turn.',
  make: (context) => (view) => {
    const cut = context.part('standCut', standCut)
    return new DrawLine(view, (drawn) => {
      cut.draw(drawn)
      context.view.use(push)
    })
  },
}
const ask: ToolDefinition = {
  name: 'pick',
  title: 'Ask',
  key: 'K',
  hint: 'Click a place to see which pass, frame and pixel measured it.',
  make:
    ({ view: shown }) =>
    (view) =>
      new Pick(view, (place) => (shown.place.value = place)),
}

export const clean: StageDefinition = {
  name: 'clean',
  title: 'Clean',
  question: 'What does not belong to the object?',
  cards: {
    stand_cut: StandCutForm,
    loose_pieces: PreviewedForm,
    trim_fuzz: PreviewedForm,
    ghost_layers: GhostForm,
    trim_borders: PreviewedForm,
    take_away: MarkForm,
  },
  titles: { take_away: 'Mark by hand' },
  within: ['keep_only', 'set_aside'],
  runs: Object.fromEntries(
    ['take_away', 'keep_only', 'set_aside'].map((name) => [
      name,
      (context: BenchContext) => void markingPart(context).use(name),
    ]),
  ),
  tools: [push, line, ask, ...MARK_TOOLS],
  panels: [UnansweredPanel],
  actions: (context) => [
    ...markActions(context),
    {
      id: 'unanswered',
      title: 'Dark and shiny: where the surface gave no answer',
      group: 'Clean',
      key: UNANSWERED_KEY,
      run: () => {
        context.goTo('clean')
        const { open } = unansweredPart(context)
        open.value = !open.value
      },
    },
  ],
}
