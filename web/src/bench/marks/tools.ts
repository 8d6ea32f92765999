import type { BenchContext } from '@/bench/context'
import { markingPart } from '@/bench/marks/marking'
import type { ToolDefinition } from '@/bench/stages/definition'
import type { Tool, ToolView } from '@/bench/viewer/tools/Tool'
import { Around, Ball, Brush, Corners, Joined, type Strokes } from '@/bench/viewer/tools/marking'

/** The operation whose card is marking by hand. */
export const MARK_CARD = 'take_away'
const OTHER = 'Shift takes out. Space: turn.'

function shape(
  name: string,
  title: string,
  key: string,
  hint: string,
  make: (view: ToolView, strokes: Strokes) => Tool,
): ToolDefinition {
  return {
    name,
    title,
    key,
    hint: `${hint} ${OTHER}`,
    card: MARK_CARD,
    enter: (context) => markingPart(context).enter(),
    make: (context: BenchContext) => (view) => {
      const part = markingPart(context)
      const tool = make(view, part.hand)
      part.closes(tool instanceof Corners ? () => tool.close() : null)
      return tool
    },
  }
}

/** The shapes that a hand marks with on points. */
export const MARK_TOOLS: ToolDefinition[] = [
  shape('lasso', 'Lasso', 'A', 'Draw round what is meant.', (v, s) => new Around(v, s, false)),
  shape(
    'polygon',
    'Polygon',
    '9',
    'Click corner by corner; Enter or the first corner closes it.',
    (v, s) => new Corners(v, s),
  ),
  shape('mark-box', 'Box', 'Alt+X', 'Draw from corner to corner.', (v, s) => new Around(v, s, true)),
  shape('brush', 'Brush', '6', 'Sweep over what is meant.', (v, s) => new Brush(v, s)),
  shape('ball', 'Ball', 'Alt+W', 'Roll a ball over the surface.', (v, s) => new Ball(v, s)),
  shape(
    'joined',
    'Joined',
    'Alt+J',
    'Click a bit: all that hangs together with it.',
    (v, s) => new Joined(v, s),
  ),
]

/** Those that mark a surface too, offered at a stage as long as a card that asks for marks stands open. */
export const surfaceTools = (stage: string): ToolDefinition[] =>
  MARK_TOOLS.filter((t) => t.name !== 'joined').map((t) => ({
    ...t,
    name: `${stage}-${t.name}`,
    card: undefined,
    wanted: (context) => markingPart(context).onSurface.value,
  }))
