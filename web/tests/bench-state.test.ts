import { flushPromises, mount, RouterLinkStub } from '@vue/test-utils'
import { createPinia, setActivePinia } from 'pinia'
import { beforeEach, describe, expect, it, vi } from 'vitest'
import { defineComponent, h } from 'vue'
import { api, ApiError, ask, type JobView } from '@/api/client'
import { useAsync } from '@/composables/useAsync'
import { useBench } from '@/bench/useBench'
import QueuePage from '@/pages/QueuePage.vue'
import { hasEnded, useJobs } from '@/stores/jobs'
import { job } from './samples'

/** What answers `fetch`; the client takes hold of `fetch` when it is first loaded. */
const net = vi.hoisted(() => {
  const held = { answer: null as unknown as (request: Request) => Promise<Response> }
  globalThis.fetch = ((request: Request) => held.answer(request)) as typeof fetch
  return held
})

type Call = { method: string; path: string; body: unknown }

/** A server that answers each path with what was laid ready for it, and remembers what it was asked. */
function server(answers: Record<string, unknown>) {
  const calls: Call[] = []
  net.answer = async (request) => {
    const path = new URL(request.url, 'http://here').pathname
    const text = await request.text()
    calls.push({ method: request.method, path, body: text ? JSON.parse(text) : null })
    const ready = answers[`${request.method} ${path}`]
    const found = typeof ready === 'function' ? await ready() : ready
    if (found === undefined) return new Response(JSON.stringify({ error: 'Not found.' }), { status: 404 })
    if (found instanceof Response) return found
    return new Response(JSON.stringify(found), { headers: { 'Content-Type': 'application/json' } })
  }
  return calls
}

const bench = (more = {}) => ({ id: 'o1', title: 'Keel bolt', passes: [], job: null, steps: [], ...more })
const said = (status: number, error: string) =>
  new Response(JSON.stringify({ error }), { status, headers: { 'Content-Type': 'application/json' } })

beforeEach(() => setActivePinia(createPinia()))

describe('asking the server', () => {
  it('gives the data, or the sentence that the server says', async () => {
    server({ 'GET /api/jobs': [job()], 'GET /api/catalogue': said(409, 'This object has a job under way.') })
    expect(await ask(api.GET('/api/jobs'))).toHaveLength(1)
    const fault = await ask(api.GET('/api/catalogue')).catch((e) => e)
    expect(fault).toBeInstanceOf(ApiError)
    expect([fault.message, fault.status]).toEqual(['This object has a job under way.', 409])
  })
  it('says that work is safe when nobody answers', async () => {
    net.answer = () => Promise.reject(new TypeError('network'))
    const fault = await ask(api.GET('/api/jobs')).catch((e) => e)
    expect(fault.message).toContain('Your work is safe')
    expect(fault.status).toBe(0)
  })
  it('carries the token that changes need', async () => {
    let token: string | null = ''
    net.answer = async (request) => {
      token = request.headers.get('X-CSRFToken')
      return new Response('{}', { headers: { 'Content-Type': 'application/json' } })
    }
    document.cookie = 'csrftoken=abc123'
    await ask(api.POST('/api/objects/{object_id}/undo', { params: { path: { object_id: 'o1' } } }))
    expect(token).toBe('abc123')
    await ask(api.GET('/api/jobs'))
    expect(token).toBeNull()
  })
})

describe('acts', () => {
  it('keep the last fault and forget it at the next one', async () => {
    const { busy, fault, run } = useAsync()
    const failing = run(() => Promise.reject(new Error('There is nothing to undo.')))
    expect(busy.value).toBe(true)
    expect(await failing).toBe(false)
    expect([busy.value, fault.value]).toEqual([false, 'There is nothing to undo.'])
    expect(await run(() => Promise.resolve())).toBe(true)
    expect(fault.value).toBe('')
  })
})

describe('jobs', () => {
  it('are kept newest first, each once, and told to who listens', () => {
    const jobs = useJobs()
    const heard: string[] = []
    const stop = jobs.listen((j) => heard.push(`${j.id} ${j.fraction}`))
    jobs.take(job({ id: 'old', created: '2026-03-01T10:00:00Z' }))
    jobs.take(job({ id: 'new' }))
    jobs.take(job({ id: 'old', created: '2026-03-01T10:00:00Z', fraction: 0.9 }))
    expect(jobs.jobs.map((j) => [j.id, j.fraction])).toEqual([
      ['new', 0.1],
      ['old', 0.9],
    ])
    stop()
    jobs.take(job({ id: 'new', state: 'done' }))
    expect(heard).toEqual(['old 0.1', 'new 0.1', 'old 0.9'])
    expect(jobs.running.map((j) => j.id)).toEqual(['old'])
    expect(jobs.jobs.map(hasEnded)).toEqual([true, false])
  })
  it('tells those who listen what happened while the stream was broken', async () => {
    const jobs = useJobs()
    jobs.take(job({ id: 'ran', changed: '2026-03-02T10:00:06Z' }))
    jobs.take(job({ id: 'same', changed: '2026-03-02T10:00:06Z' }))
    jobs.take(job({ id: 'gone', changed: '2026-03-02T10:00:06Z' }))
    server({
      'GET /api/jobs': [
        job({ id: 'ran', state: 'done', changed: '2026-03-02T10:00:09Z' }),
        job({ id: 'same', changed: '2026-03-02T10:00:06Z' }),
        job({ id: 'begun', changed: '2026-03-02T10:00:08Z' }),
      ],
    })
    const heard: string[] = []
    jobs.listen((told) => heard.push(`${told.id} ${told.state}`))
    await jobs.load()
    expect(heard).toEqual(['ran done'])
    expect(jobs.jobs.map((j) => j.id).sort()).toEqual(['begun', 'ran', 'same'])
  })
  it('asks again for a stream that was refused, less and less often', async () => {
    vi.useFakeTimers()
    const made: { readyState: number; onerror: () => void; onopen: () => void }[] = []
    class Stream {
      static CLOSED = 2
      readyState = 2
      onerror = () => {}
      onopen = () => {}
      addEventListener = () => {}
      close = () => {}
      constructor() {
        made.push(this)
      }
    }
    vi.stubGlobal('EventSource', Stream)
    const jobs = useJobs()
    jobs.connect()
    made[0].onerror()
    await vi.advanceTimersByTimeAsync(2000)
    expect(made).toHaveLength(2)
    made[1].onerror()
    await vi.advanceTimersByTimeAsync(3900)
    expect(made).toHaveLength(2)
    await vi.advanceTimersByTimeAsync(200)
    expect(made).toHaveLength(3)
    // One that broke is the browser's; one that is wanted no more is not asked for.
    made[2].readyState = 0
    made[2].onerror()
    await vi.advanceTimersByTimeAsync(100_000)
    expect(made).toHaveLength(3)
    made[2].readyState = 2
    made[2].onerror()
    jobs.disconnect()
    await vi.advanceTimersByTimeAsync(100_000)
    expect(made).toHaveLength(3)
    vi.unstubAllGlobals()
    vi.useRealTimers()
  })
  it('keeps the later of two views of a job, and the frames an answer does not tell of', () => {
    const jobs = useJobs()
    jobs.take(job({ frames: 7, changed: '2026-03-02T10:00:06Z' }))
    jobs.take(job({ paused: true, changed: '2026-03-02T10:00:07.5Z' }))
    expect([jobs.jobs[0].paused, jobs.jobs[0].frames]).toEqual([true, 7])
    jobs.take(job({ frames: 8, changed: '2026-03-02T10:00:07Z' }))
    expect([jobs.jobs[0].paused, jobs.jobs[0].frames]).toEqual([true, 7])
  })
})

describe('the bench', () => {
  function opened() {
    let state!: ReturnType<typeof useBench>
    const page = defineComponent({
      setup() {
        state = useBench('o1')
        return () => h('i')
      },
    })
    const wrapper = mount(page)
    return { state, jobs: useJobs(), wrapper }
  }
  const ready = (more = {}) => ({
    'GET /api/catalogue': { recipes: [], operations: [] },
    'GET /api/objects/o1': bench(),
    ...more,
  })

  it('opens with the catalogue and the job that is under way', async () => {
    server(ready({ 'GET /api/objects/o1': bench({ job: job() }) }))
    const { state } = opened()
    await state.start()
    expect(state.bench.value?.title).toBe('Keel bolt')
    expect(state.busy.value).toBe(true)
  })
  it('shows an object only once its keys work', async () => {
    let release: (value: unknown) => void = () => {}
    server(ready({ 'GET /api/recipes': () => new Promise((resolve) => (release = resolve)) }))
    const { state } = opened()
    const started = state.start()
    await vi.waitFor(() => expect(state.catalogue.value).not.toBeNull())
    await flushPromises()
    expect([state.busy.value, state.bench.value]).toEqual([true, null])
    release([])
    await started
    expect([state.busy.value, state.bench.value?.title]).toEqual([false, 'Keel bolt'])
  })
  it('starts what it is told with its parameters, and shows the job at once', async () => {
    const calls = server(ready({ 'POST /api/objects/o1/runs': job({ kind: 'operation' }) }))
    const { state, jobs } = opened()
    await state.start()
    await state.operation('fuse', { voxel_mm: 0.5 })
    expect(calls.at(-1)).toEqual({
      method: 'POST',
      path: '/api/objects/o1/runs',
      body: { operation: 'fuse', parameters: { voxel_mm: 0.5 } },
    })
    expect(jobs.running).toHaveLength(1)
    await state.recipe('print')
    expect(calls.at(-1)?.body).toEqual({ recipe: 'print' })
  })
  it('loads anew when its job ends, and shows why one failed until dismissed', async () => {
    const calls = server(ready())
    const { state, jobs } = opened()
    await state.start()
    const loads = () => calls.filter((c) => c.path === '/api/objects/o1').length
    jobs.take(job({ fraction: 0.4 }))
    expect(state.job.value?.fraction).toBe(0.4)
    await flushPromises()
    const before = loads()
    jobs.take(job({ state: 'failed', error: 'No pass is placed yet.' }))
    await flushPromises()
    expect(loads()).toBe(before + 1)
    expect(state.job.value).toBeNull()
    expect(state.notice.value).toBe('No pass is placed yet.')
    state.dismiss()
    expect(state.notice.value).toBe('')
  })
  it('says so when it cannot load after a job', async () => {
    const { state, jobs } = opened()
    server({})
    jobs.take(job({ state: 'done' }))
    await flushPromises()
    expect(state.notice.value).toBe('Not found.')
  })
  it('loads while a recipe goes from step to step, not at every beat', async () => {
    const calls = server(ready())
    const { state, jobs } = opened()
    await state.start()
    const before = calls.length
    for (const step of [6, 6, 7]) jobs.take(job({ step, steps: 11 }))
    await flushPromises()
    expect(calls.length - before).toBe(2)
  })
  it('leaves other objects alone, and hears nothing once it is closed', async () => {
    const calls = server(ready())
    const { state, jobs, wrapper } = opened()
    await state.start()
    const before = calls.length
    jobs.take(job({ object_id: 'o2', state: 'done' }))
    wrapper.unmount()
    jobs.take(job({ state: 'done' }))
    await flushPromises()
    expect(calls.length).toBe(before)
  })
  it('takes the newest answer when two loads cross', async () => {
    let release: (value: unknown) => void = () => {}
    const answers = [new Promise((resolve) => (release = resolve)), bench({ title: 'newer' })]
    server(ready({ 'GET /api/objects/o1': () => answers.shift() }))
    const { state } = opened()
    const first = state.load()
    await state.load()
    release(bench({ title: 'older' }))
    await first
    expect(state.bench.value?.title).toBe('newer')
  })
  it('undoes and redoes, and says when there is nothing left', async () => {
    server(
      ready({
        'POST /api/objects/o1/undo': bench({ title: 'before' }),
        'POST /api/objects/o1/redo': () => said(409, 'There is nothing to redo.'),
      }),
    )
    const { state } = opened()
    await state.move('undo')
    expect(state.bench.value?.title).toBe('before')
    await state.move('redo')
    expect(state.notice.value).toBe('There is nothing to redo.')
  })
})

describe('queue page', () => {
  const shown = async (rows: JobView[], more = {}) => {
    const calls = server({ 'GET /api/jobs': rows, ...more })
    const page = mount(QueuePage, { global: { stubs: { RouterLink: RouterLinkStub } } })
    await flushPromises()
    return { page, calls }
  }
  it('says in words that nothing was computed yet', async () => {
    const { page } = await shown([])
    expect(page.text()).toContain('Nothing is computing.')
    expect(page.text()).toContain('Nothing has been computed yet.')
  })
  it('parts what is under way from what ended, with time left and time taken', async () => {
    const ended = job({
      id: 'j2',
      state: 'failed',
      error: 'There was not enough memory.',
      finished: '2026-03-02T10:01:10Z',
    } as never)
    const { page } = await shown([job(), ended])
    const [under, over] = page.findAll('section')
    expect(under.text()).toContain('computing')
    expect(under.text()).toContain('0:30')
    expect(over.text()).toContain('not enough memory')
    expect(over.text()).toContain('1:05')
  })
  it('stops what runs, and runs again what the server says can be', async () => {
    const rows = [
      job(),
      job({ id: 'j2', state: 'cancelled', repeatable: true }),
      job({ id: 'j3', state: 'failed', kind: 'import' }),
      job({ id: 'j4', state: 'done' }),
    ]
    const { page, calls } = await shown(rows, {
      'POST /api/jobs/j1/cancel': job({ stopping: true } as never),
      'POST /api/jobs/j2/again': job({ id: 'j2', state: 'queued' }),
    })
    const acts = () => page.findAll('.act button')
    const buttons = acts()
    expect(buttons.map((b) => b.text())).toEqual(['Stop', 'Run again'])
    await buttons[0].trigger('click')
    await flushPromises()
    expect(acts()[0].text()).toBe('Stopping…')
    await acts()[1].trigger('click')
    await flushPromises()
    expect(calls.filter((c) => c.method === 'POST').map((c) => c.path)).toEqual([
      '/api/jobs/j1/cancel',
      '/api/jobs/j2/again',
    ])
    expect(page.findAll('section')[0].findAll('tbody tr')).toHaveLength(2)
  })
})
