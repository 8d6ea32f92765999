import type { BenchContext } from '@/bench/context'
import type { ToolDefinition } from '@/bench/stages/definition'
import { movesOfDrag } from '@/bench/stages/capture/hand/hand'
import type { Pointer, Tool } from '@/bench/viewer/tools/Tool'

/** Drags in the view steer the head instead of turning the view. */
class Steer implements Tool {
  readonly cursor = 'move'
  readonly takesAll = true
  private from: Pointer | null = null

  constructor(private readonly context: BenchContext) {}
  down(at: Pointer) {
    this.from = at
    return true
  }
  move(at: Pointer) {
    if (!this.from) return
    this.context.live.steer({ moves: movesOfDrag(at.x - this.from.x, at.y - this.from.y) })
    this.from = at
  }
  up() {
    this.from = null
  }
  dispose() {
    this.from = null
  }
}

export const steerTool: ToolDefinition = {
  name: 'steer',
  title: 'Steer',
  key: 'V',
  hint: 'Drag to move the head round the object and up; right drag or Space turns the view.',
  make: (context) => () => new Steer(context),
}
