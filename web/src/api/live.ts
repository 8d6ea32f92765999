import type { CapturePlan } from '@/api/client'
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
  /** Whether something newer was wished for meanwhile. */
  behind?: boolean
}
/** Where the live link stands: still connecting, ready, without its service for a moment, or refused for good. */
export type LinkState = 'connecting' | 'up' | 'down' | 'refused'
export interface PreviewWish {
  snapshot: string
  operation: string
  parameters: Record<string, unknown>
}
/** How a pass would be taken: fields of the API's `CapturePlan`. */
export type SetUp = Partial<CapturePlan>
/** What coverage is asked of: a state, or a pass that is being taken; `frames` tells one asking from the next. */
export interface CoverageWish {
  snapshot: string | null
  capture: string | null
  frames: number
  instrument: string
}
/** How the head of a pass by hand is steered: added to where it is steered to; see the server's `MOVES`. */
export interface Steering {
  moves?: Record<string, number>
  /** Go where the next frames gain most. */
  next?: boolean
  covered?: boolean
  /** Forget what came after a frame. */
  back_to?: number
  /** Take the frames first to last out, or bring them back. */
  drop?: [number, number]
  bring_back?: [number, number]
}
interface Listeners {
  state: (state: LinkState) => void
  preview: (preview: Preview) => void
  refused: (sentence: string) => void
  sight?: (sight: Preview) => void
  sightRefused?: (sentence: string) => void
  coverage?: (covered: Preview) => void
  coverageRefused?: (sentence: string) => void
  hand?: (seen: Preview) => void
  handRefused?: (sentence: string) => void
}
interface Head {
  id: number
  kind?: string
  snapshot: string
  figures: Record<string, unknown>
  layers: (Record<string, unknown> & { kind: string; parts: string[] })[]
}
const FINAL_CODES = [4403, 4404]
const FIRST_WAIT_MS = 250
const LONGEST_WAIT_MS = 4000
/** Between an answer about a pass by hand and the next question, and after a refusal. */
const HAND_MS = 40
const HAND_REFUSED_MS = 400
/** And of a machine that cannot draw all: following the head needs it as much. */
const PLAIN_MS = 90

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

/** Requests of one kind: one is under way at a time, and of those wished for meanwhile only the newest is asked for. */
class Wishes<Wish> {
  private sent = 0
  private answered = 0
  private asked: Wish | null = null
  wish: Wish | null = null

  constructor(private readonly ask: (id: number, wish: Wish) => void) {}

  want(wish: Wish | null, ready: boolean) {
    this.wish = wish
    if (wish && ready && this.sent === this.answered) this.send()
  }
  /** Whether another answer is still to come. */
  get waiting() {
    return this.sent !== this.answered
  }
  /** Note that the newest request was answered, and ask for what was wished meanwhile; what was asked, or null for an older one. */
  settle(id: number): Wish | null {
    if (id !== this.sent) return null
    const { asked } = this
    this.answered = id
    if (this.wish && asked !== this.wish) this.send()
    return asked
  }
  /** The service is back and knows of nothing: ask again; whether there was anything to ask. */
  again(): boolean {
    this.answered = this.sent
    if (this.wish) this.send()
    return this.wish != null
  }
  private send() {
    this.asked = this.wish
    this.sent += 1
    this.ask(this.sent, this.wish!)
  }
}

/**
 * The bench's link to the live service. When the service or the web server dies, the link comes back and asks for the
 * last wishes again.
 */
export class LiveLink {
  private socket: WebSocket | null = null
  private shown: string | null = null
  private closed = false
  private wait = FIRST_WAIT_MS
  private timer = 0
  private ready = false
  private readonly previews = new Wishes<PreviewWish>((id, wish) =>
    this.send({ kind: 'preview', id, ...wish }),
  )
  private readonly coverages = new Wishes<CoverageWish>((id, { snapshot, capture, instrument }) =>
    this.send({ kind: 'coverage', id, snapshot, capture, instrument }),
  )
  private followed: string | null = null
  private steering: Steering | null = null
  private plainly = false
  private edition: unknown
  private handAsked = 0
  private handTimer = 0
  private model = -1
  private readonly sights = new Wishes<SetUp>((id, set_up) => this.send({ kind: 'sight', id, set_up }))

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
    this.previews.want(wish, this.ready)
  }
  /** Wish to see what the head sees with a set-up, or with null for nothing. */
  sight(setUp: SetUp | null) {
    this.sights.want(setUp, this.ready)
  }
  /** Wish to know how well the object was seen, or with null not to. */
  coverage(wish: CoverageWish | null) {
    this.coverages.want(wish, this.ready)
  }
  /** Follow a pass by hand for as long as it is taken, or with null none. */
  follow(capture: string | null) {
    if (capture === this.followed) return
    this.followed = capture
    this.model = -1
    this.edition = undefined
    window.clearTimeout(this.handTimer)
    if (capture && this.ready) this.askHand()
  }
  /** Steer the head of the pass that is followed; what is wished before the next question adds up. */
  steer({ moves, ...more }: Steering) {
    const before = this.steering ?? {}
    const sum = { ...before.moves }
    for (const [name, by] of Object.entries(moves ?? {})) sum[name] = (sum[name] ?? 0) + by
    this.steering = { ...before, ...more, moves: sum }
  }
  /** Whether the model of the pass that is followed is to come plainly: the machine cannot draw all of it. */
  drawPlainly(plainly: boolean) {
    this.plainly = plainly
  }
  close() {
    this.closed = true
    window.clearTimeout(this.handTimer)
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
    if (typeof data !== 'string') return this.show(unpack<Head>(data))
    const message = JSON.parse(data)
    if (message.kind === 'live') this.turn(message.state)
    else if (message.kind !== 'refused') return
    else if (message.of === 'sight') {
      if (this.sights.settle(message.id) && this.sights.wish) this.listeners.sightRefused?.(message.error)
    } else if (message.of === 'hand') {
      if (this.handAnswered(message.id, HAND_REFUSED_MS)) this.listeners.handRefused?.(message.error)
    } else if (message.of === 'coverage') {
      // Of what was thrown away meanwhile nobody wants to hear.
      if (this.coverages.settle(message.id) && this.coverages.wish && !this.coverages.waiting)
        this.listeners.coverageRefused?.(message.error)
    } else if (this.wished(message.id)) this.listeners.refused(message.error)
  }
  private show(packed: Packed<Head>) {
    const shown = readPreview(packed)
    if (packed.head.kind === 'sight') {
      if (this.sights.settle(shown.id) && this.sights.wish) this.listeners.sight?.(shown)
    } else if (packed.head.kind === 'hand') {
      if (!this.handAnswered(shown.id, HAND_MS)) return
      this.model = Number(shown.figures.model ?? -1)
      // Between two frames of the head there is nothing new to draw.
      const { edition } = shown.figures
      if (edition !== undefined && edition === this.edition) return
      this.edition = edition
      this.listeners.hand?.(shown)
    } else if (packed.head.kind === 'coverage') {
      if (this.coverages.settle(shown.id) && this.coverages.wish) this.listeners.coverage?.(shown)
    } else if (this.wished(shown.id)) this.listeners.preview({ ...shown, behind: this.previews.waiting })
  }
  /** Whether an answer is about what is still wished for: the same operation on the same state. */
  private wished(id: number): boolean {
    const asked = this.previews.settle(id)
    const { wish } = this.previews
    return !!asked && !!wish && asked.snapshot === wish.snapshot && asked.operation === wish.operation
  }
  private askHand() {
    if (!this.followed || !this.ready) return
    const steer = this.steering
    this.steering = null
    this.handAsked += 1
    const { followed: capture, model: since, plainly } = this
    this.send({ kind: 'hand', id: this.handAsked, capture, since, plainly, steer })
  }
  /** Note an answer about the pass by hand and ask again soon; false for one that nobody waits for. */
  private handAnswered(id: number, after: number): boolean {
    if (id !== this.handAsked || !this.followed) return false
    window.clearTimeout(this.handTimer)
    this.handTimer = window.setTimeout(() => this.askHand(), this.plainly ? Math.max(after, PLAIN_MS) : after)
    return true
  }
  private turn(state: 'up' | 'down') {
    this.ready = state === 'up'
    this.listeners.state(state)
    if (!this.ready) return
    this.wait = FIRST_WAIT_MS
    this.sights.again()
    this.coverages.again()
    this.model = -1
    this.edition = undefined
    this.askHand()
    if (!this.previews.again()) this.open(this.shown)
  }
  private send(body: Record<string, unknown>) {
    if (this.socket?.readyState === WebSocket.OPEN) this.socket.send(JSON.stringify({ id: 0, ...body }))
  }
}
