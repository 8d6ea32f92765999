import { lookPart } from '@/bench/stages/colour/look'
import { photographsPart } from '@/bench/stages/colour/photographs'
import type { ToolDefinition } from '@/bench/stages/definition'
import { StillClick } from '@/bench/viewer/tools/StillClick'

export const WHITE = 'white'

/** A click on what should be grey. */
export const white: ToolDefinition = {
  name: WHITE,
  title: 'White by a click',
  key: 'Shift+G',
  hint: 'Click a place that should be grey: it becomes so, and all else with it.',
  card: 'adjust_colour',
  make: (context) => (view) =>
    new StillClick('crosshair', (at) => void lookPart(context).grey(view.sight(at.x, at.y))),
}

/** A click names the photograph that shows a place best. */
export const whichPhotograph: ToolDefinition = {
  name: 'which-photograph',
  title: 'Which photograph',
  key: 'Shift+P',
  hint: 'Click a place: which photograph it is of, and leave that one out.',
  card: 'lay_colour',
  make: (context) => (view) => {
    const part = photographsPart(context)
    void part.show('photographs')
    return new StillClick('crosshair', (at) => part.pick(view.sight(at.x, at.y)))
  },
}
