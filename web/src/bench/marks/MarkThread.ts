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
  private next: Marks | null = null

  constructor(private readonly marked: (flags: Map<number, Uint8Array>) => void) {
    this.worker.onmessage = ({ data }: MessageEvent<MarkAnswer>) => {
      this.busy = false
      if (this.next) this.ask(this.next)
      else if (data?.id === this.sent) this.marked(data.flags)
    }
  }
  points(pass: number, cloud: MarkCloud | null) {
    this.post({ kind: 'points', pass, cloud })
  }
  /** Make ready for a stroke that is being drawn, unless there is something else to do. */
  look(view: StrokeView, window: Window) {
    if (this.busy) return
    this.busy = true
    this.post({ kind: 'look', view, window })
  }
  ask(marks: Marks) {
    this.next = this.busy ? marks : null
    if (this.busy) return
    this.busy = true
    this.sent += 1
    this.post({ kind: 'mark', id: this.sent, marks })
  }
  /** What was asked is wanted no more. */
  forget() {
    this.next = null
    this.sent += 1
  }
  dispose() {
    this.worker.terminate()
  }
  private post(request: MarkRequest) {
    this.worker.postMessage(request)
  }
}
