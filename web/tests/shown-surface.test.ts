import { afterEach, beforeEach, describe, expect, it, vi } from 'vitest'
import { effectScope, ref, shallowRef } from 'vue'
import type { BenchContext } from '@/bench/context'
import { MOST_AT_ONCE, STAY_MS, useShownSurface } from '@/bench/useShownSurface'

const asked: string[] = []
const surface = { parse: async (url: unknown) => [url], show: vi.fn(), drop: vi.fn(), clear: vi.fn() }
const view = {
  meshUrl: ref<string | null>(null),
  glanceUrl: ref<string | null>(null),
  whole: ref(false),
  glancing: ref(false),
  viewer: shallowRef({ surface }),
}
const bench = { bench: shallowRef({ mesh: { triangles: 300_000 } }) }
const scope = effectScope()
const host = ref(document.createElement('div'))
const { sync } = scope.run(() =>
  useShownSurface(
    { bench, view } as unknown as BenchContext,
    host,
    (work) => work().then(() => {}),
    () => {},
  ),
)!

async function look(snapshot: string | null, glance: boolean) {
  view.whole.value = false
  view.meshUrl.value = snapshot && `/${snapshot}/mesh`
  view.glanceUrl.value = snapshot && glance ? `/${snapshot}/glance` : null
  await sync()
}
/** As the view does it: who wants the whole does without the glance. */
async function stay() {
  await vi.advanceTimersByTimeAsync(STAY_MS + 1)
  if (view.whole.value) view.glanceUrl.value = null
  await sync()
}

beforeEach(() => {
  vi.useFakeTimers()
  vi.stubGlobal('fetch', async (url: string) => (asked.push(url), { ok: true, arrayBuffer: async () => url }))
  asked.length = 0
})
afterEach(() => {
  vi.unstubAllGlobals()
  vi.useRealTimers()
})

describe('the surface that is shown', () => {
  it('comes at a glance when one looks back, and whole for who stays', async () => {
    await look('s1', true)
    expect(asked).toEqual(['/s1/glance'])
    expect([view.glancing.value, host.value.dataset.mesh]).toEqual([true, '/s1/glance'])
    await stay()
    expect(asked).toEqual(['/s1/glance', '/s1/mesh'])
    expect([view.glancing.value, host.value.dataset.mesh]).toEqual([false, '/s1/mesh'])
    await sync()
    expect(asked).toHaveLength(2)
  })
  it('does not fetch the whole for who goes on to another step', async () => {
    await look('s2', true)
    await vi.advanceTimersByTimeAsync(STAY_MS / 2)
    await look('s3', true)
    await vi.advanceTimersByTimeAsync(STAY_MS * 0.7)
    expect([asked, view.whole.value]).toEqual([['/s2/glance', '/s3/glance'], false])
  })
  it('keeps one of very many triangles at a glance until all are asked for', async () => {
    bench.bench.value = { mesh: { triangles: MOST_AT_ONCE + 1 } }
    await look('s4', true)
    await stay()
    expect([asked, view.glancing.value]).toEqual([['/s4/glance', '/s4/glance'], true])
    view.glanceUrl.value = null
    await sync()
    expect([asked.at(-1), view.glancing.value]).toEqual(['/s4/mesh', false])
  })
  it('goes with the surface', async () => {
    await look(null, false)
    expect([surface.clear.mock.calls.length, host.value.dataset.mesh]).toEqual([1, undefined])
  })
})
