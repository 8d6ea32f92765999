import { matchingPart } from '@/bench/stages/align/matching'
import type { ToolDefinition } from '@/bench/stages/definition'
import { Pick } from '@/bench/viewer/tools/Pick'

export const TIE: ToolDefinition = {
  name: 'tie',
  title: 'Tie spots',
  key: 'A',
  card: 'match_points',
  hint: 'Click a spot, then the same one on the other side. Enter matches.',
  enter: (context) => {
    const match = matchingPart(context)
    if (match.tied.value.length > 2 && !context.bench.busy.value) void match.use()
  },
  make: (context) => (view) => new Pick(view, (place) => matchingPart(context).take(place)),
}
