import { mount } from '@vue/test-utils'
import { afterEach, beforeEach, describe, expect, it, vi } from 'vitest'
import { nextTick, ref } from 'vue'
import type { BenchContext } from '@/bench/context'
import * as contexts from '@/bench/context'
import UnansweredPanel from '@/bench/stages/clean/UnansweredPanel.vue'
import { unanswered } from '@/bench/stages/clean/unanswered'
import { pack } from './packed'

const asked: string[] = []
let answer: () => object = () => ({})
const dark = { name: 'dark', share: 0.12, words: 'too dark for the light', advice: 'More exposure.' }

function stand(passes = [{ title: 'upright' }, { title: 'cloud', points: true }, { title: 'tipped' }]) {
  const bench = { bench: ref({ passes }) }
  const made = { bench, view: { snapshot: ref('s1') } } as unknown as BenchContext
  const part = unanswered(made)
  vi.spyOn(contexts, 'useBenchContext').mockReturnValue({
    ...made,
    part: () => part,
  } as unknown as BenchContext)
  return { part, panel: mount(UnansweredPanel, { global: { stubs: { SightPhoto: true } } }) }
}
const settled = async () => {
  await vi.waitFor(() => expect(asked.length).toBeGreaterThan(0))
  await new Promise((done) => setTimeout(done))
  await nextTick()
}

beforeEach(() => {
  asked.length = 0
  const arrays = { photograph: new Uint8Array(6), reason: new Uint8Array([0, 1]) }
  answer = () => ({
    ok: true,
    arrayBuffer: async () => pack({ frames: 3, width: 2, why: '', lost: 0.12, reasons: [dark] }, arrays),
  })
  vi.stubGlobal('fetch', async (url: string) => (asked.push(url), answer()))
})
afterEach(() => {
  vi.unstubAllGlobals()
  vi.restoreAllMocks()
})

describe('dark and shiny', () => {
  it('asks for nothing until it is opened, then tells why and what helps, frame by frame', async () => {
    const { panel, part } = stand()
    expect([asked.length, panel.find('ul').exists()]).toEqual([0, false])
    await panel.find('button').trigger('click')
    await settled()
    expect(asked).toEqual(['/api/snapshots/s1/passes/0/unanswered/0'])
    expect(panel.find('li').text()).toMatch(/too dark for the light.*12.*More exposure/s)
    // A dark pixel is hatched in ochre.
    expect([...part.photo.value!.marks]).toEqual([0, 2])
    await panel.find('[data-test=next-frame]').trigger('click')
    await panel.find('[aria-label="The frame before"]').trigger('click')
    await panel.find('[aria-label="The frame before"]').trigger('click')
    expect(part.frame.value).toBe(2)
    expect(panel.findAll('option').map((o) => o.text())).toEqual(['upright', 'tipped'])
  })
  it('says why nothing can be told, and what the server says', async () => {
    answer = () => ({
      ok: true,
      arrayBuffer: async () =>
        pack({ frames: 3, width: 0, why: 'No photographs.', lost: 0, reasons: [] }, {}),
    })
    const { panel, part } = stand()
    part.open.value = true
    await settled()
    expect(panel.text()).toContain('No photographs.')
    answer = () => ({ ok: false, status: 400, json: async () => ({ error: 'It has no frame 9.' }) })
    part.frame.value = 8
    await vi.waitFor(() => expect(panel.find('[role=alert]').text()).toBe('It has no frame 9.'))
  })
  it('is not there for points that came in', () => {
    expect(
      stand([{ title: 'cloud', points: true }])
        .panel.find('section')
        .exists(),
    ).toBe(false)
  })
})
