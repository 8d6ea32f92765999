import { unpack, type Packed, type TypedArray } from '@/lib/packed'

/** A layer of a preview: what to draw, with its arrays. */
export interface PreviewLayer {
  kind: string
  pass?: string
  arrays: Record<string, TypedArray>
  [fact: string]: unknown
}
/** What an operation would do. */
export interface Preview {
  id: number
  snapshot: string
  figures: Record<string, unknown>
  layers: PreviewLayer[]
}
/** Where the live link stands: still connecting, ready, without its service for a moment, or refused for good. */
export type LinkState = 'connecting' | 'up' | 'down' | 'refused'
export interface PreviewWish {
  snapshot: string
  operation: string
  parameters: Record<string, unknown>
}
interface Listeners {
  state: (state: LinkState) => void
  preview: (preview: Preview) => void
  refused: (sentence: string) => void
}
interface Head {
  id: number
  snapshot: string
  figures: Record<string, unknown>
  layers: (Record<string, unknown> & { kind: string; parts: string[] })[]
}
const FINAL_CODES = [4403, 4404]
const FIRST_WAIT_MS = 250
const LONGEST_WAIT_MS = 4000

/** A preview as it comes over the link. */
export function readPreview(packed: Packed<Head>): Preview {
  const { id, snapshot, figures, layers } = packed.head
  return {
    id,
    snapshot,
    figures,
    layers: layers.map(({ parts, ...facts }, n) => ({
      ...facts,
      arrays: Object.fromEntries(parts.map((name) => [name, packed.arrays[`${n}.${name}`]])),
    })),
  }
}

/**
 * The bench's link to the live service. One preview is under way at a time; of those wished for meanwhile only the
 * newest is asked for. When the service or the web server dies, the link comes back and asks for the last wish again.
 */
export class LiveLink {
  private socket: WebSocket | null = null
  private sent = 0
  private answered = 0
  private wish: PreviewWish | null = null
  private shown: string | null = null
  private closed = false
  private wait = FIRST_WAIT_MS
  private timer = 0
  private ready = false

  constructor(
    private readonly url: string,
    private readonly listeners: Listeners,
  ) {
    this.connect()
  }

  /** Have a snapshot opened, so that its first preview is as fast as all. */
  open(snapshot: string | null) {
    this.shown = snapshot
    if (snapshot && this.ready) this.send({ kind: 'open', snapshot })
  }
  /** Wish for a preview, or with null for none. */
  preview(wish: PreviewWish | null) {
    this.wish = wish
    if (wish && this.ready && this.sent === this.answered) this.askWish()
  }
  close() {
    this.closed = true
    window.clearTimeout(this.timer)
    this.socket?.close()
  }

  private connect() {
    const socket = (this.socket = new WebSocket(this.url))
    socket.binaryType = 'arraybuffer'
    socket.onmessage = (e) => this.hear(e.data)
    socket.onclose = (e) => this.lost(e.code)
  }
  private lost(code: number) {
    this.ready = false
    if (this.closed) return
    if (FINAL_CODES.includes(code)) return this.listeners.state('refused')
    this.listeners.state('down')
    this.timer = window.setTimeout(() => this.connect(), this.wait)
    this.wait = Math.min(this.wait * 2, LONGEST_WAIT_MS)
  }
  private hear(data: string | ArrayBuffer) {
    if (typeof data !== 'string') {
      const preview = readPreview(unpack<Head>(data))
      if (this.settle(preview.id) && this.wish?.snapshot === preview.snapshot) this.listeners.preview(preview)
      return
    }
    const message = JSON.parse(data)
    if (message.kind === 'live') this.turn(message.state)
    else if (message.kind === 'refused' && this.settle(message.id) && this.wish)
      this.listeners.refused(message.error)
  }
  /** Note that the newest request was answered, and ask for what was wished meanwhile; false for an older one. */
  private settle(id: number): boolean {
    if (id !== this.sent) return false
    this.answered = id
    if (this.wish && this.asked !== this.wish) this.askWish()
    return true
  }
  private asked: PreviewWish | null = null
  private turn(state: 'up' | 'down') {
    this.ready = state === 'up'
    this.listeners.state(state)
    if (!this.ready) return
    this.wait = FIRST_WAIT_MS
    this.answered = this.sent
    if (this.wish) this.askWish()
    else this.open(this.shown)
  }
  private askWish() {
    this.asked = this.wish
    this.sent += 1
    this.send({ kind: 'preview', id: this.sent, ...this.wish! })
  }
  private send(body: Record<string, unknown>) {
    if (this.socket?.readyState === WebSocket.OPEN) this.socket.send(JSON.stringify({ id: 0, ...body }))
  }
}
