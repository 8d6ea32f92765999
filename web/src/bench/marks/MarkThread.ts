import type { MarkCloud, Window } from '@/lib/blocks'
import type { MarkAnswer, MarkRequest } from '@/lib/marks.worker'
import type { Marks, StrokeView } from '@/lib/strokes'

/** The thread that marks points as they are shown; of marks asked for meanwhile only the newest are answered. */
export class MarkThread {
  private readonly worker = new Worker(new URL('../../lib/marks.worker.ts', import.meta.url), {
    type: 'module',
  })
  private sent = 0
  private busy = false
  private looking = false
  private lightly = true
  private next: Marks | null = null

  constructor(private readonly marked: (flags: Map<number, Uint8Array>, whole: boolean) => void) {
    this.worker.onmessage = ({ data }: MessageEvent<MarkAnswer>) => {
      if (!data) {
        this.looking = false
        return
      }
      this.busy = false
      if (this.next) this.ask(this.next, this.lightly)
      else if (data.id === this.sent) this.marked(data.flags, data.whole)
    }
  }
  points(pass: number, cloud: MarkCloud | null) {
    this.post({ kind: 'points', pass, cloud })
  }
  /** Make ready for a stroke that is being drawn, unless there is something else to do. */
  look(view: StrokeView, window: Window) {
    if (this.busy || this.looking) return
    this.looking = true
    this.post({ kind: 'look', view, window })
  }
  /** Ask which points are marked; `lightly`: first of those that are shown while the view moves. */
  ask(marks: Marks, lightly: boolean) {
    this.lightly = lightly
    this.next = this.busy ? marks : null
    if (this.busy) return
    this.busy = true
    this.sent += 1
    this.post({ kind: 'mark', id: this.sent, marks, lightly })
  }
  /** What was asked is wanted no more. */
  forget() {
    this.next = null
    this.enough()
  }
  /** What was asked is known from elsewhere. */
  enough() {
    this.sent += 1
    this.post({ kind: 'enough' })
  }
  dispose() {
    this.worker.terminate()
  }
  private post(request: MarkRequest) {
    this.worker.postMessage(request)
  }
}
