import type { ScreenLines } from '@/bench/viewer/layers/ScreenLines'
import type { PointerOwner } from '@/bench/viewer/pointer'

/** A pointer over the view that keys move, so that a tool needs no mouse. */
export class KeyCursor {
  private at: [number, number] | null = null

  constructor(
    private readonly pointer: PointerOwner,
    private readonly lines: ScreenLines,
    private readonly size: () => [number, number],
  ) {}
  get shown() {
    return this.at != null
  }
  /** Move it by pixels, from the middle of the view when it was not there; false when no tool wants it. */
  move(right: number, down: number): boolean {
    if (!this.pointer.drawing) return false
    const [width, height] = this.size()
    const [x, y] = this.at ?? [width / 2, height / 2]
    this.at = [Math.min(Math.max(x + right, 0), width - 1), Math.min(Math.max(y + down, 0), height - 1)]
    this.lines.cursor(this.at)
    this.pointer.moveTo(this.pointerAt(false))
    return true
  }
  /** Put the tool down there, or lift it; false when the cursor is not shown. */
  press(shift: boolean): boolean {
    if (!this.at) return false
    this.pointer.press(this.pointerAt(shift))
    return true
  }
  hide() {
    this.at = null
    this.lines.cursor(null)
  }
  private pointerAt(shift: boolean) {
    const [x, y] = this.at!
    return { x, y, shift }
  }
}
