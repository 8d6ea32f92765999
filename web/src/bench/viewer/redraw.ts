const SETTLED_MS = 160
/** Between a drawing and the next frame, on the mean: from here on the machine does not keep up. */
const SLOW_MS = 90
const SHARE = 0.25

/** Draws when something asked for it, once a frame at the most, and knows whether the view is moving or lags behind. */
export class Redraw {
  private asked = false
  private quiet = 0
  private lag = 0
  moving = false

  constructor(private readonly draw: (moving: boolean) => void) {}
  /** Draw soon. */
  ask = () => {
    if (this.asked) return
    this.asked = true
    requestAnimationFrame(() => {
      this.asked = false
      this.draw(this.moving)
      const drawn = performance.now()
      requestAnimationFrame(() => (this.lag += SHARE * (performance.now() - drawn - this.lag)))
    })
  }
  /** Whether drawings come late on the mean. */
  get slow() {
    return this.lag > SLOW_MS
  }
  /** The view moves: draw lightly now, and fully once it rests. */
  move = () => this.lightly(SETTLED_MS)
  /** Draw lightly now, and fully after so many milliseconds, unless something moves then. */
  lightly = (settled: number) => {
    this.moving = true
    window.clearTimeout(this.quiet)
    this.quiet = window.setTimeout(() => {
      this.moving = false
      this.ask()
    }, settled)
    this.ask()
  }
}
