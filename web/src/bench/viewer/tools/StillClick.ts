import type { Pointer, Tool } from '@/bench/viewer/tools/Tool'

const STILL_PX = 4

/** A click that does not move; drags are left to turning. */
export class StillClick implements Tool {
  readonly takesAll = false
  private from: Pointer | null = null

  constructor(
    readonly cursor: string,
    private readonly clicked: (at: Pointer) => void,
  ) {}
  down(at: Pointer): boolean {
    this.from = at
    return false
  }
  up(at: Pointer) {
    const still = this.still(at)
    this.from = null
    if (still) this.clicked(at)
  }
  dispose() {}
  /** Whether the pointer has hardly moved since the button went down. */
  protected still(at: Pointer): boolean {
    return !!this.from && Math.hypot(at.x - this.from.x, at.y - this.from.y) < STILL_PX
  }
}
