const SETTLED_MS = 160
/** Between a drawing and the next frame, or from that to the one after, on the mean: from here on the machine does not keep up. */
const SLOW_MS = 90
/** And up to here it does so easily. */
const EASY_MS = 20
/** How much of a drawing's lag is taken on: quickly what is late, so that the next comes plainly; slowly what is not. */
const RISE = 0.5
const FALL = 0.25

/** Draws when something asked for it, once a frame at the most, and knows whether the view is moving or lags behind. */
export class Redraw {
  private asked: 'all' | 'over' | null = null
  private quiet = 0
  private lag = 0
  moving = false

  constructor(private readonly draw: (moving: boolean, over: boolean) => void) {}
  /** Draw soon. */
  ask = () => this.want('all')
  /** Draw soon what changed over what stands, unless all is asked for meanwhile. */
  askOver = () => this.want('over')
  private want(what: 'all' | 'over') {
    const waits = this.asked
    if (what === 'all' || !waits) this.asked = what
    if (waits) return
    requestAnimationFrame(() => {
      const over = this.asked === 'over'
      this.asked = null
      this.draw(this.moving, over)
      this.watch()
    })
  }
  /** A drawing that takes long may hold up the next frame, or only the one after: two are on their way at once. */
  private watch() {
    const drawn = performance.now()
    requestAnimationFrame(() => {
      const next = performance.now()
      requestAnimationFrame(() => {
        const late = Math.max(next - drawn, performance.now() - next)
        this.lag += (late > this.lag ? RISE : FALL) * (late - this.lag)
      })
    })
  }
  /** Whether drawings come late on the mean. */
  get slow() {
    return this.lag > SLOW_MS
  }
  /** Whether nothing holds drawings up. */
  get easy() {
    return this.lag < EASY_MS
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
