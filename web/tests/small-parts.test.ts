import { mount, RouterLinkStub } from '@vue/test-utils'
import PrimeVue from 'primevue/config'
import { describe, expect, it, vi } from 'vitest'
import type { Catalogue, JobView } from '@/api/client'
import HorizonRing from '@/components/HorizonRing.vue'
import ShelfCard from '@/components/ShelfCard.vue'
import { bytes } from '@/composables/format'
import QueuePill from '@/components/QueuePill.vue'
import ScaleBar from '@/components/ScaleBar.vue'
import type { CapturePlan } from '@/api/client'
import { paintSight } from '@/bench/stages/capture/sight'
import HeldPass from '@/bench/stages/capture/HeldPass.vue'
import RunningPass from '@/bench/stages/capture/RunningPass.vue'
import type { CheckView, StandView } from '@/api/client'
import DeskCall from '@/components/DeskCall.vue'
import DepthHill from '@/components/DepthHill.vue'
import CheckCard from '@/components/instruments/CheckCard.vue'
import { series, told } from '@/components/instruments/figures'
import CaptureSheet from '@/bench/stages/capture/CaptureSheet.vue'
import RecipeBar from '@/bench/worksheet/RecipeBar.vue'
import { job } from './samples'

const plugins = [[PrimeVue, { unstyled: true }]] as never

describe('horizon ring', () => {
  const side = (azimuth: number, elevation = 0.2) =>
    mount(HorizonRing, { props: { azimuth, elevation } }).find('figcaption').text()

  it('names the side that is seen, however often one turned round', () => {
    const quarter = Math.PI / 2
    expect([0, 1, 2, 3, 4, -1, -5].map((n) => side(n * quarter))).toEqual([
      'front',
      'right',
      'back',
      'left',
      'front',
      'left',
      'left',
    ])
    expect(side(0.7)).toBe('front')
    expect(side(0.9)).toBe('right')
    expect(side(1, 1.4)).toBe('above')
    expect(side(1, -1.4)).toBe('below')
  })
  it('puts its mark where the viewer stands', () => {
    const mark = (azimuth: number) => {
      const at = mount(HorizonRing, { props: { azimuth, elevation: 0.5 } }).find('.mark')
      return [Number(at.attributes('cx')), Number(at.attributes('cy'))]
    }
    expect(mark(0)[0]).toBeCloseTo(42)
    expect(mark(0)[1]).toBeGreaterThan(46)
    expect(mark(Math.PI)[1]).toBeLessThan(46)
    expect(mark(Math.PI / 2)[0]).toBeCloseTo(76)
  })
  it('looks from the place that was clicked, and from above at the pole', async () => {
    const ring = mount(HorizonRing, { props: { azimuth: 0.3, elevation: 0.5 } })
    const svg = ring.find('svg')
    svg.element.getBoundingClientRect = () => ({ left: 0, top: 0, width: 84, height: 84 }) as DOMRect
    await svg.trigger('click', { clientX: 76, clientY: 46 })
    await svg.trigger('click', { clientX: 42, clientY: 12 })
    const [aside, above] = ring.emitted('look') as [number, number][]
    expect(aside[0]).toBeCloseTo(Math.PI / 2)
    expect(above).toEqual([0.3, 1.5])
  })
})

describe('scale bar', () => {
  it('shows a round length that is true in pixels and at most 110 wide', () => {
    for (const mmPerPixel of [0.013, 0.1, 0.37, 2, 14]) {
      const bar = mount(ScaleBar, { props: { mmPerPixel } })
      const length = parseFloat(bar.text())
      const width = parseFloat((bar.element as HTMLElement).style.width)
      expect(width * mmPerPixel).toBeCloseTo(length, 3)
      expect(width).toBeLessThanOrEqual(110)
      expect(width).toBeGreaterThan(43)
      expect(['1', '2', '5']).toContain(length.toExponential(0)[0])
    }
  })
})

describe('queue pill', () => {
  const pill = (running: JobView[], connected = true) =>
    mount(QueuePill, { props: { running, connected }, global: { stubs: { RouterLink: RouterLinkStub } } })

  it('shows what computes, how far it is and how long it takes', () => {
    const shown = pill([job({ fraction: 0.25, seconds_left: 65 }), job({ id: 'j2' }), job({ id: 'j3' })])
    expect(shown.text()).toContain('Keel bolt: Print recipe')
    expect(shown.text()).toContain('1:05')
    expect(shown.text()).toContain('+2')
    expect((shown.find('.bar i').element as HTMLElement).style.width).toBe('25%')
  })
  it('says when nothing computes and when the server is not there', () => {
    expect(pill([]).text()).toBe('Nothing computing')
    expect(pill([], false).text()).toBe('Not connected')
  })
})

const table = {
  band_mm: [150, 620],
  exposure_ms: [0.5, 8, 64],
  infrared: true,
  elevation_deg: 24,
  paths: [] as string[],
}
const INSTRUMENTS = [
  { ...table, name: 'desk', title: 'Desk head', kind: 'table' },
  {
    ...table,
    name: 'jewel',
    title: 'Jewel head',
    kind: 'two_axis',
    infrared: false,
    paths: ['small and plain'],
  },
  { ...table, name: 'hand', title: 'Hand head', kind: 'hand' },
] as unknown as Catalogue['instruments']

const running = (one: ReturnType<typeof job>) => mount(RunningPass, { props: { job: one, photo: '/p.jpg' } })

describe('capture sheet', () => {
  const sheet = (more = {}) =>
    mount(CaptureSheet, {
      props: {
        passes: 0,
        busy: false,
        instruments: INSTRUMENTS,
        last: {},
        looking: false,
        figures: null,
        ...more,
      },
      global: { plugins },
    })
  const plans = (shown: ReturnType<typeof sheet>) =>
    (shown.emitted('start') as [CapturePlan][]).map(([p]) => p)

  it('proposes an upright pass first and a tipped one then', async () => {
    const first = sheet()
    await first.find('form').trigger('submit')
    await first.setProps({ passes: 1 })
    await first.find('form').trigger('submit')
    await first.setProps({ passes: 2 })
    await first.find('form').trigger('submit')
    expect(plans(first).map((p) => [p.title, p.tip_deg])).toEqual([
      ['upright', 0],
      ['tipped', 90],
      ['tipped 2', 90],
    ])
    expect(plans(first)[0]).toMatchObject({
      instrument: 'desk',
      stops: 12,
      elevation_deg: 24,
      exposure_ms: [8],
    })
  })
  it('says how far the table turns from stop to stop', () => {
    expect(sheet().text()).toContain('30°')
  })
  it('takes the settings of the last pass over', async () => {
    const last = {
      instrument: 'jewel',
      path: 'small and plain',
      exposure_ms: [4, 12, 32],
      gate_mm: [70, 140],
    }
    const shown = sheet({ last })
    await shown.find('form').trigger('submit')
    expect(plans(shown)[0]).toMatchObject({ ...last, infrared: false })
  })
  it('sets the exposure at which most would answer, and several that go with it', async () => {
    const shown = sheet({
      looking: true,
      figures: { just_right_ms: 16.42, frames: 12, minutes: 0.25, points: 54_000 },
    })
    expect(shown.find('[data-test=cost]').text()).toContain('0:15')
    await shown.find('[data-test=just-right]').trigger('click')
    await shown.findAll('input[type=checkbox]')[0].setValue(true)
    await shown.find('form').trigger('submit')
    expect(plans(shown)[0].exposure_ms).toEqual([16, 48, 64])
    expect((shown.emitted('change') as unknown[]).length).toBeGreaterThan(1)
  })
  it('lets markers hold a pass, by hand too, where there is no axis', async () => {
    for (const [instrument, other] of [
      ['desk', 'The table’s axis'],
      ['hand', 'Its shape alone'],
    ]) {
      const shown = sheet({ last: { instrument, held_by: 'markers' } })
      await shown.find('form').trigger('submit')
      expect(plans(shown)[0]).toMatchObject({ instrument, held_by: 'markers' })
      const plain = sheet({ last: { instrument } })
      expect(plain.find('[data-test=held-by]').text()).toContain(other)
      const asked = sheet({ last: { instrument } })
      await asked.setProps({ held: { by: 'markers' } })
      await asked.find('form').trigger('submit')
      expect(plans(asked)[0]).toMatchObject({ held_by: 'markers' })
      await plain.find('form').trigger('submit')
      expect(plans(plain)[0]).not.toHaveProperty('held_by')
    }
  })
  it('sets up what coverage suggests: how the object lies, and for a table how the head looks', async () => {
    const suggested = {
      gain: 0.2,
      common: 0.5,
      words: 'a turn lying on its side',
      stops: 12,
      start_deg: 150,
      tip_deg: 90,
      tip_about_deg: 90,
      elevation_deg: 55,
    }
    for (const [instrument, elevation] of [
      ['desk', 55],
      ['hand', undefined],
    ]) {
      const shown = sheet({ passes: 1, last: { instrument } })
      await shown.setProps({ suggested })
      await shown.find('form').trigger('submit')
      const [plan] = plans(shown)
      expect(plan).toMatchObject({ tip_deg: 90, tip_about_deg: 90, title: 'lying on its side' })
      expect(plan.elevation_deg).toBe(elevation)
      expect(plan.start_deg).toBe(elevation && 150)
    }
  })
  it('says what a running pass will see, and the way that would see more', async () => {
    const outlook = { seen: 0.83, best: '12 stops upright and 12 lying on its front', best_seen: 0.95 }
    const live = running(job({ kind: 'capture', outlook }))
    expect(live.find('[data-test=outlook]').text()).toMatch(
      /about 83.% of it; 12 stops upright .* would see 95.%/,
    )
    await live.setProps({ job: job({ kind: 'capture', outlook: { ...outlook, best_seen: 0.84 } }) })
    expect(live.find('[data-test=outlook]').text()).not.toContain('would see')
  })
  it('waits as long as is wanted before it starts, and not at all when it is told so meanwhile', async () => {
    vi.useFakeTimers()
    const shown = sheet({ last: { instrument: 'desk', delay_s: 3 } })
    const button = () => shown.find('[data-test=start-pass]').text()
    await shown.find('form').trigger('submit')
    await vi.advanceTimersByTimeAsync(2000)
    expect(button()).toContain('Starts in 1')
    await shown.find('form').trigger('submit')
    await vi.advanceTimersByTimeAsync(5000)
    expect(shown.emitted('start')).toBeUndefined()
    await shown.find('form').trigger('submit')
    await vi.advanceTimersByTimeAsync(3000)
    expect(shown.emitted('start')).toHaveLength(1)
    expect(button()).toBe('Start pass')
    vi.useRealTimers()
  })
  it('lets one ask for an instrument that another drives', async () => {
    const shown = sheet({ drivers: { desk: { driver: 'mira', asked: false } } })
    expect(shown.find('[data-test=driven]').text()).toContain('mira drives it')
    await shown.find('[data-test=driven] button').trigger('click')
    expect(shown.emitted('ask')).toEqual([['desk']])
    await shown.setProps({ drivers: { desk: { driver: 'mira', asked: true } } })
    expect(shown.find('[data-test=driven] button').exists()).toBe(false)
  })
  it('offers infrared light only where there is some', async () => {
    const shown = sheet({ last: { instrument: 'jewel' } })
    expect(shown.text()).not.toContain('Infrared')
    expect(sheet().text()).toContain('Infrared')
  })
  it('shows a running pass with its photograph, and has a button for every key', async () => {
    const live = running(
      job({ kind: 'capture', message: 'Stop 6 of 24', frames: 6, paused: false, waiting: '' }),
    )
    expect(live.find('img').attributes('src')).toBe('/p.jpg')
    expect(live.text()).toContain('Stop 6 of 24')
    for (const name of ['pause-pass', 'step-back', 'finish-pass', 'drop-pass'])
      await live.find(`[data-test=${name}]`).trigger('click')
    const words = 'Paused. Go on when you are ready.'
    await live.setProps({ job: job({ kind: 'capture', frames: 0, paused: true, waiting: words }) })
    expect(live.find('[data-test=waiting]').text()).toBe(words)
    expect(live.find('[data-test=step-back]').attributes('disabled')).toBeDefined()
    await live.find('[data-test=pause-pass]').trigger('click')
    expect(live.emitted('act')).toEqual([['pause'], ['step_back'], ['finish'], ['cancel'], ['go_on']])
  })
  it('asks what becomes of a pass that was taken, and which frames stay in', async () => {
    const held = { id: 'c1', title: 'upright', frames: 12, planned: 12, outlook: { seen: 0.8 } }
    const shown = mount(HeldPass, { props: { held, busy: false } })
    expect(shown.text()).toContain('12 of 12 frames')
    await shown.find('[data-test=trim-last]').setValue('10')
    expect(shown.text()).toContain('2 frames stay out')
    await shown.find('[data-test=accept-pass]').trigger('click')
    await shown.find('[data-test=throw-away]').trigger('click')
    expect(shown.emitted('accept')).toEqual([[1, 10]])
    expect(shown.emitted('drop')).toHaveLength(1)
    await shown.setProps({ busy: true })
    ;(shown.vm as unknown as { accept(): void }).accept()
    expect(shown.emitted('accept')).toHaveLength(1)
  })
})

describe('a sight', () => {
  it('paints clipped light as violet hatch, dark as ochre hatch, and leaves the rest as it is', () => {
    const photograph = new Uint8Array(6 * 6 * 3).fill(90)
    const marks = new Uint8Array(36)
    marks.fill(1, 0, 6)
    marks.fill(2, 6, 12)
    const out = paintSight(photograph, marks, 6, [
      [1, 2, 3],
      [7, 8, 9],
    ])
    const at = (n: number) => [...out.slice(4 * n, 4 * n + 3)]
    const row = (y: number) => [0, 1, 2, 3, 4, 5].map((x) => at(6 * y + x)[0])
    expect(new Set(row(0))).toEqual(new Set([1, 90]))
    expect(new Set(row(1))).toEqual(new Set([7, 90]))
    expect(new Set(row(3))).toEqual(new Set([90]))
    expect(out[3]).toBe(255)
  })
})

describe('recipe bar', () => {
  const recipes = [
    { name: 'draft', title: 'Draft', help: 'A quick look.', steps: [{ operation: 'fuse', parameters: {} }] },
    { name: 'print', title: 'Print', help: 'Watertight.', steps: [] },
  ] as unknown as Catalogue['recipes']
  const bar = (more = {}) =>
    mount(RecipeBar, {
      props: { recipes, busy: false, ready: true, main: true, ...more },
      global: { plugins },
    })

  it('runs the recipe that is chosen', async () => {
    const shown = bar()
    expect(shown.text()).toContain('A quick look.')
    await shown.find('[data-test=run-recipe]').trigger('click')
    expect(shown.emitted('run')).toEqual([['draft']])
  })
  it('waits for a pass and for what computes', () => {
    for (const more of [{ ready: false }, { busy: true }])
      expect(bar(more).find('[data-test=run-recipe]').attributes('disabled')).toBeDefined()
  })
})

describe('room and pictures on the shelf', () => {
  const item = (more: object) =>
    ({
      id: 'o1',
      title: 'Owl inkwell',
      notes: '',
      size_mm: 92,
      passes: 2,
      state: 'ready to deliver',
      stages: [],
      picture: '/api/objects/o1/picture?v=s1',
      room_bytes: 812_000_000,
      role: 'owner',
      owner: '',
      changed: '2026-03-02T10:00:00Z',
      created: '2026-03-01T10:00:00Z',
      tags: [],
      standing: 'ready',
      archived: false,
      deleted: null,
      gone: null,
      ...more,
    }) as never
  const card = (more: object = {}) => mount(ShelfCard, { props: { item: item(more), height: 90 } })

  it('tells what an object takes, in the unit that fits', () => {
    expect(card().text()).toContain('812\u2009MB')
    expect([bytes(1), bytes(2_400_000), bytes(1_440_000_000)]).toEqual([
      '1\u2009MB',
      '2\u2009MB',
      '1.4\u2009GB',
    ])
    expect(card({ room_bytes: 0 }).text()).not.toContain('MB')
  })
  it('says that the picture is being drawn until it has come', async () => {
    const shown = card()
    expect(shown.text()).toContain('drawing its picture')
    await shown.find('img').trigger('load')
    expect(shown.text()).not.toContain('picture')
    await shown.find('img').trigger('error')
    expect(shown.text()).toContain('no picture yet')
    expect(card({ picture: null }).text()).toContain('no picture yet')
  })
  it('lets the owner share and delete, and tells others whose it is', async () => {
    const own = card()
    await own.find('[aria-label="Share Owl inkwell"]').trigger('click')
    await own.find('[data-test=shelf-more]').trigger('click')
    await own.find('[aria-label="Delete Owl inkwell"]').trigger('click')
    expect([own.emitted('share')?.length, own.emitted('remove')?.length]).toEqual([1, 1])
    const other = card({ role: 'look', owner: 'mira' })
    expect(other.text()).toContain('mira, to look')
    expect(other.find('[aria-label^="Share"]').exists()).toBe(false)
  })
})

describe('checks of an instrument', () => {
  const check = (n: number, more: object = {}) =>
    ({
      id: `k${n}`,
      instrument: 'desk',
      kind: 'piece',
      state: 'done',
      ok: true,
      words: 'True.',
      who: 'mira',
      created: `2026-0${n}-01T10:00:00Z`,
      figures: {
        form_mm: [0.1, 0.1],
        size_mm: [0.01, 0.02],
        spacing_error_mm: 0.01 * n,
        spacing_uncertainty_mm: 0.002,
        flatness_mm: 0.1,
        scale: 0.0005,
      },
      ...more,
    }) as unknown as CheckView

  it('are charted oldest first with their uncertainty, and told in figures', () => {
    const values = series([check(3), check(1, { ok: false }), check(2, { state: 'failed' })], 'piece')
    expect(values.map((v) => [v.value, v.ok])).toEqual([
      [0.01, false],
      [0.03, true],
    ])
    expect(values[0].plus).toBe(0.002)
    expect(told(check(2)).find(([label]) => label === 'Scale')![1]).toMatch(/0\.050.%/)
    expect(told(check(2, { state: 'failed' }))).toEqual([])
  })
  it('say what is due and begin by a button', async () => {
    const props = { kind: 'piece', title: 'Reference piece', number: 4, checks: [check(1)], busy: false }
    const card = mount(CheckCard, {
      props: { ...props, due: 'Reference piece: 31 days old; 30 are enough.' },
    })
    expect(card.text()).toContain('31 days old')
    expect(card.find('[data-test=verdict-piece]').text()).toContain('Good. True.')
    await card.find('[data-test=begin-piece]').trigger('click')
    expect(card.emitted('begin')).toHaveLength(1)
  })
})

describe('a call for an instrument', () => {
  it('is put to whoever drives it, and answered', async () => {
    const stand = { name: 'desk', title: 'Desk head', driven_by_me: true, asked_by: 'tomas' } as StandView
    const call = mount(DeskCall, { props: { stands: [stand] } })
    expect(call.text()).toContain('tomas asks to take over the desk head.')
    await call.find('.plain-button').trigger('click')
    await call.find('[data-test=call-hand-over]').trigger('click')
    expect(call.emitted('answer')).toEqual([
      ['desk', 'keep'],
      ['desk', 'hand_over'],
    ])
    await call.setProps({ stands: [{ ...stand, driven_by_me: false }] })
    expect(call.find('[data-test=desk-call]').exists()).toBe(false)
  })
})

describe('the range gate in the preview', () => {
  it('is moved by keys, and its sides never pass each other', async () => {
    const hill = mount(DepthHill, {
      props: { hill: [0, 1, 0], span: [0, 800], band: [150, 600], gate: [150, 160] },
    })
    await hill.find('[data-test=gate-0]').trigger('keydown', { key: 'ArrowRight' })
    await hill.find('[data-test=gate-0]').trigger('keydown', { key: 'ArrowRight' })
    await hill.find('[data-test=gate-1]').trigger('keydown', { key: 'ArrowRight' })
    expect(hill.emitted('gate')).toEqual([[[155, 160]], [[155, 160]], [[150, 165]]])
    await hill.setProps({ gate: null })
    expect(hill.find('[role=slider]').exists()).toBe(false)
  })
})
