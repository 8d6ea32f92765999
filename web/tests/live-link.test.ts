import { afterEach, beforeEach, describe, expect, it, vi } from 'vitest'
import { fetchGeometry, LatestOnly } from '@/api/geometry'
import { LiveLink, type Preview } from '@/api/live'
import { pack } from './packed'

class FakeSocket {
  static all: FakeSocket[] = []
  static OPEN = 1
  readyState = 1
  sent: Record<string, unknown>[] = []
  onmessage: (e: { data: unknown }) => void = () => {}
  onclose: (e: { code: number }) => void = () => {}
  binaryType = ''
  constructor(readonly url: string) {
    FakeSocket.all.push(this)
  }
  send(text: string) {
    this.sent.push(JSON.parse(text))
  }
  close() {
    this.readyState = 3
  }
  say(message: object) {
    this.onmessage({ data: JSON.stringify(message) })
  }
  answer(id: number, snapshot = 's1') {
    const layers = [{ kind: 'marked', pass: 'upright', digest: 'd', parts: ['flags'] }]
    const arrays = { '0.flags': new Uint8Array([id]) }
    this.onmessage({ data: pack({ id, snapshot, figures: { n: id }, layers }, arrays) })
  }
}

beforeEach(() => {
  vi.useFakeTimers()
  FakeSocket.all = []
  vi.stubGlobal('WebSocket', FakeSocket)
})
afterEach(() => {
  vi.unstubAllGlobals()
  vi.useRealTimers()
})

function linked() {
  const heard = { state: [] as string[], preview: [] as Preview[], refused: [] as string[] }
  const link = new LiveLink('ws://here/ws', {
    state: (s) => heard.state.push(s),
    preview: (p) => heard.preview.push(p),
    refused: (r) => heard.refused.push(r),
  })
  const socket = () => FakeSocket.all.at(-1)!
  return { link, heard, socket }
}
const wish = (n: number, snapshot = 's1') => ({ snapshot, operation: 'stand_cut', parameters: { n } })

describe('coverage over the link', () => {
  it('is asked for one at a time; a refusal of what is not wished any more is not told', () => {
    const told: string[] = []
    const seen: Preview[] = []
    const link = new LiveLink('ws://here/ws', {
      state: () => {},
      preview: () => {},
      refused: () => {},
      coverage: (c) => seen.push(c),
      coverageRefused: (r) => told.push(r),
    })
    const socket = FakeSocket.all.at(-1)!
    socket.say({ kind: 'live', state: 'up' })
    const of = (capture: string | null) => ({ snapshot: null, capture, frames: 3, instrument: 'desk' })
    link.coverage(of('c1'))
    link.coverage(of('c2'))
    expect(socket.sent.map((m) => [m.kind, m.capture])).toEqual([['coverage', 'c1']])
    socket.say({ kind: 'refused', of: 'coverage', id: 1, error: 'It is gone.' })
    expect(told).toEqual([])
    expect(socket.sent.map((m) => m.capture)).toEqual(['c1', 'c2'])
    const layer = { kind: 'coverage', parts: ['level'] }
    const head = { id: 2, kind: 'coverage', snapshot: '', figures: {}, layers: [layer] }
    socket.onmessage({ data: pack(head, { '0.level': new Uint8Array([9]) }) })
    expect([...seen[0].layers[0].arrays.level]).toEqual([9])
    link.coverage(of('c3'))
    socket.say({ kind: 'refused', of: 'coverage', id: 3, error: 'No pass is placed yet.' })
    expect(told).toEqual(['No pass is placed yet.'])
  })
})

describe('the live link', () => {
  it('asks one preview at a time, and of those wished meanwhile the newest', () => {
    const { link, heard, socket } = linked()
    socket().say({ kind: 'live', state: 'up' })
    for (let n = 1; n <= 5; n++) link.preview(wish(n))
    expect(socket().sent.map((m) => m.parameters)).toEqual([{ n: 1 }])
    socket().answer(1)
    expect(socket().sent.map((m) => m.parameters)).toEqual([{ n: 1 }, { n: 5 }])
    socket().answer(2)
    expect(heard.preview.map((p) => p.figures)).toEqual([{ n: 1 }, { n: 2 }])
    expect([...heard.preview[1].layers[0].arrays.flags]).toEqual([2])
    expect(heard.preview[1].layers[0].pass).toBe('upright')
    expect(socket().sent).toHaveLength(2)
  })
  it('never shows a preview of another snapshot or one that is not wished for any more', () => {
    const { link, heard, socket } = linked()
    socket().say({ kind: 'live', state: 'up' })
    link.preview(wish(1))
    link.preview(wish(2, 's2'))
    socket().answer(1, 's1')
    expect(heard.preview).toHaveLength(0)
    link.preview(null)
    socket().answer(2, 's2')
    expect(heard.preview).toHaveLength(0)
  })
  it('asks again for the last wish when the service comes back', () => {
    const { link, heard, socket } = linked()
    link.preview(wish(1))
    expect(socket().sent).toHaveLength(0)
    socket().say({ kind: 'live', state: 'up' })
    socket().say({ kind: 'live', state: 'down' })
    link.preview(wish(2))
    socket().say({ kind: 'live', state: 'up' })
    expect(socket().sent.map((m) => m.parameters)).toEqual([{ n: 1 }, { n: 2 }])
    socket().answer(2)
    expect(heard.preview).toHaveLength(1)
    expect(heard.state).toEqual(['up', 'down', 'up'])
  })
  it('connects anew when the server is gone, waiting longer each time, and not when it may not', () => {
    const { heard, socket } = linked()
    socket().onclose({ code: 1006 })
    vi.advanceTimersByTime(250)
    expect(FakeSocket.all).toHaveLength(2)
    socket().onclose({ code: 1006 })
    vi.advanceTimersByTime(250)
    expect(FakeSocket.all).toHaveLength(2)
    vi.advanceTimersByTime(250)
    expect(FakeSocket.all).toHaveLength(3)
    socket().onclose({ code: 4404 })
    vi.advanceTimersByTime(60_000)
    expect(FakeSocket.all).toHaveLength(3)
    expect(heard.state).toEqual(['down', 'down', 'refused'])
  })
  it('opens the snapshot that is shown, and tells a refusal of the last wish alone', () => {
    const { link, heard, socket } = linked()
    link.open('s1')
    socket().say({ kind: 'live', state: 'up' })
    expect(socket().sent[0]).toMatchObject({ kind: 'open', snapshot: 's1' })
    link.preview(wish(1))
    socket().say({ kind: 'refused', id: 0, error: 'older' })
    socket().say({ kind: 'refused', id: 1, error: 'No plate was found.' })
    expect(heard.refused).toEqual(['No plate was found.'])
  })
  it('stays closed when the bench is left', () => {
    const { link, socket } = linked()
    link.close()
    socket().onclose({ code: 1000 })
    vi.advanceTimersByTime(60_000)
    expect(FakeSocket.all).toHaveLength(1)
  })
})

describe('geometry', () => {
  it('is fetched, or refused with the sentence of the server', async () => {
    const signal = new AbortController().signal
    vi.stubGlobal('fetch', async () => new Response(new Uint8Array([1, 2])))
    expect((await fetchGeometry('/x', signal)).byteLength).toBe(2)
    vi.stubGlobal(
      'fetch',
      async () => new Response('{"error": "This state has no mesh yet."}', { status: 400 }),
    )
    await expect(fetchGeometry('/x', signal)).rejects.toThrow('no mesh yet')
    vi.stubGlobal('fetch', async () => new Response('<html>', { status: 502 }))
    await expect(fetchGeometry('/x', signal)).rejects.toThrow('answered 502')
  })
})

describe('the latest only', () => {
  const gate = () => {
    let open!: (v: string) => void
    const promise = new Promise<string>((r) => (open = r))
    return { promise, open }
  }
  it('never uses a late answer after a newer one, and frees what it made', async () => {
    const latest = new LatestOnly()
    const [used, dropped] = [[] as string[], [] as string[]]
    const [first, second] = [gate(), gate()]
    const a = latest.run(
      () => first.promise,
      (v) => used.push(v),
      (v) => dropped.push(v),
    )
    const b = latest.run(
      () => second.promise,
      (v) => used.push(v),
      (v) => dropped.push(v),
    )
    second.open('new')
    expect(await b).toBe(true)
    first.open('old')
    expect(await a).toBe(false)
    expect([used, dropped]).toEqual([['new'], ['old']])
  })
  it('calls off what is under way and keeps quiet about it, but tells a real fault', async () => {
    const latest = new LatestOnly()
    const aborted = latest.run(
      (signal) => new Promise((_, no) => signal.addEventListener('abort', () => no(new Error('called off')))),
      () => {},
    )
    latest.stop()
    expect(await aborted).toBe(false)
    await expect(
      latest.run(
        () => Promise.reject(new Error('broken')),
        () => {},
      ),
    ).rejects.toThrow('broken')
  })
})
