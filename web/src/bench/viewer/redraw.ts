const SETTLED_MS = 160

/** Draws when something asked for it, once a frame at the most, and knows whether the view is moving. */
export class Redraw {
  private asked = false
  private quiet = 0
  moving = false

  constructor(private readonly draw: (moving: boolean) => void) {}
  /** Draw soon. */
  ask = () => {
    if (this.asked) return
    this.asked = true
    requestAnimationFrame(() => {
      this.asked = false
      this.draw(this.moving)
    })
  }
  /** The view moves: draw lightly now, and fully once it rests. */
  move = () => {
    this.moving = true
    window.clearTimeout(this.quiet)
    this.quiet = window.setTimeout(() => {
      this.moving = false
      this.ask()
    }, SETTLED_MS)
    this.ask()
  }
}
