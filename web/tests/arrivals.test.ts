import { mount } from '@vue/test-utils'
import { createPinia, setActivePinia } from 'pinia'
import createClient from 'openapi-fetch'
import PrimeVue from 'primevue/config'
import { afterEach, beforeEach, describe, expect, it, vi } from 'vitest'
import { filesOf } from '@/api/dropped'
import { bringIn, ownNames, type Sending } from '@/api/uploads'
import ArrivalSheet from '@/bench/stages/capture/ArrivalSheet.vue'
import DropArea from '@/components/DropArea.vue'
import PassTracks from '@/components/PassTracks.vue'
import { useArrivals } from '@/stores/arrivals'
import { job } from './samples'

// The client keeps the fetch it finds when it is made; here it asks for the one of each test.
vi.mock('@/api/client', async (original) => ({
  ...(await original<typeof import('@/api/client')>()),
  api: createClient({ baseUrl: 'http://x', fetch: (request: Request) => globalThis.fetch(request) }),
}))

const plugins = [[PrimeVue, { unstyled: true }]] as never
const PIECE = 4

/** A server that keeps what is sent in pieces; `breaks` says at which piece the connection breaks. */
function server(breaks: number[] = []) {
  const kept = new Map<string, { name: string; bytes: number; data: string }>()
  let pieces = 0
  const asked: unknown[] = []
  const json = (body: unknown, status = 200) => new Response(JSON.stringify(body), { status })
  const seen = (id: string) => {
    const { name, bytes, data } = kept.get(id)!
    return { id, name, bytes, received: data.length, piece_bytes: PIECE }
  }
  const answer = async (input: Request | string, init?: RequestInit): Promise<Response> => {
    const request = typeof input === 'string' ? new Request(`http://x${input}`, init) : input
    const path = new URL(request.url).pathname
    if (request.method === 'POST' && path.endsWith('/uploads')) {
      const { name, bytes } = await request.json()
      const begun = [...kept].find(([, u]) => u.name === name && u.bytes === bytes)
      const id = begun?.[0] ?? `u${kept.size + 1}`
      if (!begun) kept.set(id, { name, bytes, data: '' })
      return json(seen(id), 201)
    }
    if (path.endsWith('/arrivals')) {
      asked.push(await request.json())
      return json(job({ kind: 'import' }), 201)
    }
    const id = path.split('/').pop()!
    if (request.method === 'PUT') {
      pieces += 1
      const text = typeof init?.body === 'string' ? init.body : await (init!.body as Blob).text()
      const upload = kept.get(id)!
      const at = Number(new URL(request.url).searchParams.get('at'))
      if (at !== upload.data.length) return json({ error: 'wrong place' }, 409)
      upload.data += text
      // What was sent has come, but its answer is lost.
      if (breaks.includes(pieces)) throw new TypeError('network')
    }
    return json(seen(id))
  }
  vi.stubGlobal('fetch', vi.fn(answer))
  return { kept, asked, pieces: () => pieces }
}
const files = () => [new File(['0123456789'], 'a.ply'), new File(['abc'], 'b.ply')]
const none = () => {}

beforeEach(() => {
  setActivePinia(createPinia())
  vi.useFakeTimers({ toFake: ['setTimeout'] })
})
afterEach(() => {
  vi.useRealTimers()
  vi.unstubAllGlobals()
})

describe('sending files', () => {
  it('sends every file in pieces, tells how far it is, and asks for passes once', async () => {
    const there = server()
    const told: Sending[] = []
    await bringIn('o', files(), { unit: 'cm' }, (now) => told.push(now), new AbortController().signal)
    expect([...there.kept.values()].map((u) => u.data)).toEqual(['0123456789', 'abc'])
    expect(there.asked).toEqual([{ unit: 'cm', uploads: ['u1', 'u2'] }])
    expect(told.map((t) => t.sent)).toEqual([0, 4, 8, 10, 10, 13])
    expect(told.at(-1)).toMatchObject({ name: 'b.ply', number: 2, files: 2, bytes: 13 })
  })
  it('goes on where it was when the connection breaks', async () => {
    const there = server([2])
    const done = bringIn('o', files(), {}, none, new AbortController().signal)
    await vi.advanceTimersByTimeAsync(5000)
    await done
    expect(there.kept.get('u1')!.data).toBe('0123456789')
    expect(there.pieces()).toBe(4)
  })
  it('gives up after some tries, and the next time sends only the rest', async () => {
    const there = server()
    there.kept.set('u1', { name: 'a.ply', bytes: 10, data: '01' })
    const calls: string[] = []
    const answer = fetch
    vi.stubGlobal('fetch', (input: Request | string, init?: RequestInit) => {
      if (init?.method !== 'PUT') return answer(input as string, init)
      calls.push(input as string)
      return Promise.reject(new TypeError('network'))
    })
    const failed = bringIn('o', files(), {}, none, new AbortController().signal).catch((e) => e)
    await vi.advanceTimersByTimeAsync(60_000)
    expect((await failed).message).toContain('What has come is kept')
    expect(calls).toHaveLength(6)
    expect(new Set(calls)).toEqual(new Set(['/api/uploads/u1?at=2']))
  })
  it('gives files of one name names of their own, and says when each was changed', async () => {
    const there = server()
    const twice = [new File(['1'], 'scan.ply'), new File(['2'], 'scan.ply'), new File(['3'], 'notes')]
    await bringIn('o', twice, {}, none, new AbortController().signal)
    expect([...there.kept.values()].map((u) => [u.name, u.data])).toEqual([
      ['scan.ply', '1'],
      ['scan 2.ply', '2'],
      ['notes', '3'],
    ])
    expect(ownNames(['a', 'a', 'a.b.c', 'a.b.c', 'a 2'])).toEqual(['a', 'a 2', 'a.b.c', 'a.b 2.c', 'a 2 2'])
  })
  it('refuses an empty file by name before anything is sent', async () => {
    server()
    const said = await bringIn('o', [new File([], 'void.ply')], {}, none, new AbortController().signal).catch(
      (e) => e.message,
    )
    expect(said).toBe('void.ply: this file is empty.')
  })
  it('stops when asked, without a fault, and says so while it sends', async () => {
    server()
    const arrivals = useArrivals()
    const sent = arrivals.bring('o', files())
    expect(arrivals.sending).toMatchObject({ objectId: 'o', name: 'a.ply', bytes: 13 })
    arrivals.stop()
    expect(await sent).toBe(false)
    expect(arrivals.sending).toBeNull()
  })
})

describe('arrival sheet', () => {
  const sheet = (more = {}) =>
    mount(ArrivalSheet, {
      props: { sending: null, readable: ['.zip', '.ply'], busy: false, ...more },
      global: { plugins },
    })

  it('hands over all chosen files and can take the same ones again', async () => {
    const own = sheet()
    const input = own.find('[data-test=import-file]')
    expect(input.attributes('accept')).toBe('.zip,.ply,.mtl,.png,.jpg,.jpeg')
    for (const chosen of [files(), [], files()]) {
      Object.defineProperty(input.element, 'files', { value: chosen, configurable: true })
      await input.trigger('change')
    }
    const picked = own.emitted('pick') as [File[], object][]
    expect(picked.map(([f, said]) => [f.map((one) => one.name), said])).toEqual([
      [['a.ply', 'b.ply'], {}],
      [['a.ply', 'b.ply'], {}],
    ])
  })
  it('says the camera of RGB-D folders only when asked to', async () => {
    const own = sheet()
    expect(own.find('.camera').exists()).toBe(false)
    await own.find('[data-test=own-camera]').setValue(true)
    own.vm.take(files())
    expect((own.emitted('pick') as unknown[][])[0][1]).toMatchObject({
      camera: { width: 640, fx: 525, cy: 239.5 },
      depth_unit_mm: 0.2,
    })
  })
  it('shows what is sent, how far it is and a way to stop', async () => {
    const sending = { name: 'a.e57', number: 2, files: 3, sent: 4e8, bytes: 16e8, secondsLeft: 65 }
    const own = sheet({ sending })
    expect(own.text()).toContain('a.e57')
    expect(own.text()).toContain('2 of 3')
    expect(own.text()).toContain('1:05 left')
    expect((own.find('.bar i').element as HTMLElement).style.width).toBe('25%')
    await own.find('[data-test=stop-sending]').trigger('click')
    expect(own.emitted('stop')).toHaveLength(1)
    expect(own.find('[data-test=choose-files]').exists()).toBe(false)
  })
})

describe('dropping', () => {
  const entry = (name: string, text: string) => ({
    isDirectory: false,
    name,
    fullPath: `/${name}`,
    file: (done: (f: File) => void) => done(new File([text], name.split('/').pop()!)),
  })
  const folder = (name: string, inside: object[]) => {
    let read = false
    const readEntries = (done: (e: object[]) => void) => done(read ? [] : ((read = true), inside))
    return { isDirectory: true, name, fullPath: `/${name}`, createReader: () => ({ readEntries }) }
  }
  const drop = (entries: object[]) => ({
    types: ['Files'],
    items: entries.map((e) => ({ webkitGetAsEntry: () => e })),
    files: [],
  })

  it('takes files as they are and a folder as one archive of what is in it', async () => {
    const inner = [entry('walk/depth.txt', 'x'), folder('walk/rgb', [entry('walk/rgb/0.png', 'y')])]
    const found = await filesOf(
      drop([entry('a.ply', '1'), folder('walk', [...inner, entry('walk/.hidden', 'z')])]) as never,
    )
    expect(found.map((f) => f.name)).toEqual(['a.ply', 'walk.zip'])
    const text = await found[1].text()
    expect(text).toContain('walk/depth.txt')
    expect(text).toContain('walk/rgb/0.png')
    expect(text).not.toContain('.hidden')
  })
  it('says what would come of a drop while it hangs there, and nothing when it may not', async () => {
    const area = mount(DropArea, { props: { words: 'Drop to add' }, slots: { default: '<p>inside</p>' } })
    const dataTransfer = drop([entry('a.ply', '1'), entry('b.ply', '2')])
    await area.trigger('dragenter', { dataTransfer })
    expect(area.text()).toContain('Drop to add')
    await area.trigger('dragleave', { dataTransfer })
    expect(area.text()).not.toContain('Drop to add')
    await area.trigger('drop', { dataTransfer })
    await vi.waitFor(() => expect(area.emitted('files')).toBeTruthy())
    const [[dropped]] = area.emitted('files') as [File[]][]
    expect(dropped.map((f) => f.name)).toEqual(['a.ply', 'b.ply'])
    await area.setProps({ off: true })
    await area.trigger('dragenter', { dataTransfer })
    expect(area.text()).not.toContain('Drop to add')
  })
})

describe('pass tracks', () => {
  it('says of a pass of points what it came as', () => {
    const points = {
      count: 34834,
      triangles: 0,
      size_mm: 115.93,
      spacing_mm: 0.492,
      unit: 'm',
      unit_from: 'size',
      normals_from: 'spread',
      coloured: true,
    }
    const pass = {
      title: 'scan',
      capture: 'c',
      tracking: 'none',
      frames: 0,
      frames_in: [],
      fit_mm: [],
      kept_share: [0.5],
      rms_mm: null,
      noise_mm: 0.05,
      posed: true,
      cut: false,
      placed: true,
      points,
    }
    const tracks = mount(PassTracks, { props: { passes: [pass], live: null, hidden: [false] } as never })
    const text = tracks.text().replace(/\u2009/g, ' ')
    expect(text).toContain('35 k points · placed')
    expect(text).toContain('115.9 mm across (m, guessed) · 0.49 mm apart · normals made, side guessed')
    expect(text).toContain('in colour · 50 % kept')
    expect(text).toContain('± 0.050 mm')
    expect(text).not.toContain('frames in')
  })
})
