import { matchingPart } from '@/bench/stages/align/matching'
import { snappingPart } from '@/bench/stages/align/snapping'
import type { ToolDefinition } from '@/bench/stages/definition'
import { DragPass } from '@/bench/viewer/tools/DragPass'
import { TieSpots } from '@/bench/viewer/tools/TieSpots'

/** What a hand drags snaps when it is let go; Escape puts the tool away, and the pass back. */
export const DRAG: ToolDefinition = {
  name: 'drag-pass',
  title: 'Drag the pass',
  key: 'Alt+D',
  card: 'snap',
  hint: 'Drag the pass where it belongs, with Shift turn it. Enter snaps.',
  wanted: ({ bench }) => (bench.bench.value?.passes.length ?? 0) > 1,
  enter: (context) => {
    const snap = snappingPart(context)
    if (snap.dragged.value && !context.bench.busy.value) void snap.use()
  },
  make: (context) => (view) => {
    const { moving, hold, move, letGo } = snappingPart(context)
    return new DragPass(view, { takes: (place) => place?.pass === moving.value, hold, move, letGo })
  },
}

const DEGREES_PER_PX = 0.5

export const TIE: ToolDefinition = {
  name: 'tie',
  title: 'Tie spots',
  key: 'A',
  card: 'match_points',
  hint: 'Click a spot, then the same on the other side. Shift turns the pass.',
  enter: (context) => {
    const match = matchingPart(context)
    if (match.takeOffered()) return
    if (match.tied.value.length > 2 && !context.bench.busy.value) void match.use()
  },
  make: (context) => (view) => {
    const match = matchingPart(context)
    return new TieSpots(view, {
      picked: (place) => {
        match.take(place)
        // The next Enter is for the ring.
        if (match.offered.value) context.view.viewer.value?.cursor.hide()
      },
      moved: (thread, end, place) => {
        const { fixed } = match.threads.value[thread] ?? {}
        match.moveEnd(thread, fixed && end === 0 ? 'fixed' : 'moving', place)
      },
      turned: (right, down) => {
        match.turn(1, right * DEGREES_PER_PX)
        match.turn(0, down * DEGREES_PER_PX)
      },
    })
  },
}
