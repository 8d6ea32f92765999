/** After how long the whole is tried again that was too much, each time twice as long. */
const AGAIN_MS = 60_000

/** Whether what grows live is more than the machine can draw, and is to come plainly. */
export class Effort {
  plainly = false
  private since = 0
  private wait = AGAIN_MS

  /** Look how drawing goes while something grows; what was too much is tried again after a while, if drawing is easy. */
  look(growing: boolean, { slow, easy }: { slow: boolean; easy: boolean }) {
    const now = performance.now()
    if (!growing) {
      this.plainly = false
      this.wait = AGAIN_MS
    } else if (!this.plainly && slow) {
      this.plainly = true
      this.since = now
    } else if (this.plainly && easy && now - this.since > this.wait) {
      this.plainly = false
      this.wait *= 2
    }
  }
}
