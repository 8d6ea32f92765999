import type { Rims } from '@/bench/viewer/layers/Rims'
import type { Pointer, Tool, ToolView } from '@/bench/viewer/tools/Tool'

const REACH_PX = 40
const STILL_PX = 4

/** A click near a rim takes the hole or leaves it. */
export class TakeRims implements Tool {
  readonly cursor = 'pointer'
  readonly takesAll = false
  private from: Pointer | null = null

  constructor(
    private readonly view: ToolView,
    private readonly rims: Rims,
    private readonly turn: (rim: number) => void,
  ) {}
  down(at: Pointer): boolean {
    this.from = at
    return false
  }
  up(at: Pointer) {
    const still = this.from && Math.hypot(at.x - this.from.x, at.y - this.from.y) < STILL_PX
    this.from = null
    if (!still) return
    const rim = this.rims.nearest([at.x, at.y], (place) => this.view.project(place), REACH_PX)
    if (rim >= 0) this.turn(rim)
  }
  dispose() {}
}
