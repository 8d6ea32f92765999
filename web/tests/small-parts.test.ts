import { mount, RouterLinkStub } from '@vue/test-utils'
import PrimeVue from 'primevue/config'
import { describe, expect, it } from 'vitest'
import type { Catalogue, JobView } from '@/api/client'
import HorizonRing from '@/components/HorizonRing.vue'
import ShelfCard from '@/components/ShelfCard.vue'
import { bytes } from '@/composables/format'
import QueuePill from '@/components/QueuePill.vue'
import ScaleBar from '@/components/ScaleBar.vue'
import CaptureSheet, { type Plan } from '@/bench/stages/capture/CaptureSheet.vue'
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

describe('capture sheet', () => {
  const sheet = (more = {}) =>
    mount(CaptureSheet, {
      props: { passes: 0, job: null, photo: null, busy: false, ...more },
      global: { plugins },
    })

  it('proposes an upright pass first and a tipped one then', async () => {
    const first = sheet()
    await first.find('form').trigger('submit')
    await first.setProps({ passes: 1 })
    await first.find('form').trigger('submit')
    await first.setProps({ passes: 2 })
    await first.find('form').trigger('submit')
    const plans = (first.emitted('start') as [Plan][]).map(([p]) => p)
    expect(plans.map((p) => [p.title, p.tip_deg])).toEqual([
      ['upright', 0],
      ['tipped', 90],
      ['tipped 2', 90],
    ])
    expect(plans[0]).toMatchObject({ stops: 24, elevation_deg: 24, tip_about_deg: 0 })
  })
  it('says how far the table turns from stop to stop', () => {
    expect(sheet().text()).toContain('15.0°')
  })
  it('shows a running pass with its photograph and lets it end early', async () => {
    const live = sheet({ job: job({ kind: 'capture', message: 'Stop 6 of 24' }), photo: '/p.jpg' })
    expect(live.find('img').attributes('src')).toBe('/p.jpg')
    expect(live.text()).toContain('Stop 6 of 24')
    expect(live.find('form').exists()).toBe(false)
    await live.find('[data-test=finish-pass]').trigger('click')
    await live.find('.plain-button').trigger('click')
    expect(live.emitted('finish')).toHaveLength(1)
    expect(live.emitted('stop')).toHaveLength(1)
  })
})

describe('recipe bar', () => {
  const recipes = [
    { name: 'draft', title: 'Draft', help: 'A quick look.' },
    { name: 'print', title: 'Print', help: 'Watertight.' },
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
    await own.find('[aria-label="Delete Owl inkwell"]').trigger('click')
    expect([own.emitted('share')?.length, own.emitted('remove')?.length]).toEqual([1, 1])
    const other = card({ role: 'look', owner: 'mira' })
    expect(other.text()).toContain('mira, to look')
    expect(other.find('[aria-label^="Share"]').exists()).toBe(false)
  })
})
