import type { MarkCloud } from '@/lib/blocks'
import type { MarkAnswer, MarkRequest } from '@/lib/marks.worker'
import type { Marks } from '@/lib/strokes'

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
      else if (data.id === this.sent) this.marked(data.flags)
    }
  }
  points(pass: number, cloud: MarkCloud | null) {
    this.post({ kind: 'points', pass, cloud })
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
