import type { Place } from '@/bench/viewer/layers/Layer'
import type { Pointer, Tool, ToolView } from '@/bench/viewer/tools/Tool'

const STILL_PX = 4

/** A click names a place: where it is, and which pass, frame and pixel measured it. */
export class Pick implements Tool {
  readonly cursor = 'help'
  readonly takesAll = false
  private from: Pointer | null = null

  constructor(
    private readonly view: ToolView,
    private readonly picked: (place: Place | null) => void,
  ) {}
  down(at: Pointer): boolean {
    this.from = at
    return false
  }
  up(at: Pointer) {
    const still = this.from && Math.hypot(at.x - this.from.x, at.y - this.from.y) < STILL_PX
    this.from = null
    if (still) this.picked(this.view.pick(at.x, at.y))
  }
  dispose() {}
}
