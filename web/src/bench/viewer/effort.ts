/** After how long the whole is tried again that was too much, each time twice as long. */
const AGAIN_MS = 60_000

/** Whether a machine draws without a graphics card, by what its WebGL context tells of itself. */
export function drawsInSoftware(gl: WebGLRenderingContext | WebGL2RenderingContext): boolean {
  const told = gl.getExtension('WEBGL_debug_renderer_info')
  const name = String(gl.getParameter(told ? told.UNMASKED_RENDERER_WEBGL : gl.RENDERER))
  return /swiftshader|llvmpipe|softpipe|software|basic render/i.test(name)
}

/** Whether what grows live is more than the machine can draw, and is to come plainly: where it draws in software always. */
export class Effort {
  plainly = false
  private since = 0
  private wait = AGAIN_MS

  constructor(readonly inSoftware = false) {}

  /** Look how drawing goes while something grows; what was too much is tried again after a while, if drawing is easy. */
  look(growing: boolean, { slow, easy }: { slow: boolean; easy: boolean }) {
    const now = performance.now()
    if (!growing || this.inSoftware) {
      this.plainly = growing
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
