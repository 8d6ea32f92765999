import type { Place } from '@/bench/viewer/layers/Layer'
import { StillClick } from '@/bench/viewer/tools/StillClick'
import type { Pointer, ToolView } from '@/bench/viewer/tools/Tool'

/** What a hand does to threads. */
export interface Tying {
  /** A click on a spot. */
  picked(place: Place | null): void
  /** An end of a thread is dragged to another spot. */
  moved(thread: number, end: number, place: Place | null): void
  /** A drag with Shift, in pixels. */
  turned(right: number, down: number): void
}

/** Clicks pick spots; knots of threads are dragged; with Shift a drag turns the pass alone. Other drags turn the view. */
export class TieSpots extends StillClick {
  private held: { thread: number; end: number } | 'turn' | null = null
  private last: Pointer | null = null

  constructor(
    private readonly view: ToolView,
    private readonly tying: Tying,
  ) {
    super('help', (at) => tying.picked(view.pick(at.x, at.y)))
  }
  override down(at: Pointer): boolean {
    this.held = at.shift ? 'turn' : this.view.lines.knotAt(at.x, at.y)
    this.last = at
    super.down(at)
    return !!this.held
  }
  move(at: Pointer) {
    if (this.held === 'turn') this.tying.turned(at.x - this.last!.x, at.y - this.last!.y)
    else if (this.held && !this.still(at))
      this.tying.moved(this.held.thread, this.held.end, this.view.pick(at.x, at.y))
    this.last = at
  }
  override up(at: Pointer) {
    // A click beside a knot is one as any other.
    if (this.held !== 'turn') super.up(at)
    this.held = null
  }
}
