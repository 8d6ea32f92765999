import { mount } from '@vue/test-utils'
import { createPinia, setActivePinia } from 'pinia'
import PrimeVue from 'primevue/config'
import { beforeEach, describe, expect, it, vi } from 'vitest'
import { nextTick, ref, shallowRef } from 'vue'
import type { BenchContext } from '@/bench/context'
import CoverageCard from '@/bench/CoverageCard.vue'
import MarkForm from '@/bench/marks/MarkForm.vue'
import { marking } from '@/bench/marks/marking'
import GhostForm from '@/bench/stages/clean/GhostForm.vue'
import { suggestions } from '@/bench/stages/capture/sheetHandle'
import ScaleForm from '@/bench/stages/set/ScaleForm.vue'
import { spotsPart } from '@/bench/stages/set/spots'
import PassCards from '@/bench/stages/align/PassCards.vue'
import PreviewedForm from '@/bench/worksheet/PreviewedForm.vue'

let context: BenchContext
vi.mock('@/bench/context', () => ({ useBenchContext: () => context }))

const number = (name: string, more: object = {}) => ({
  name,
  kind: 'number',
  default: 0,
  optional: false,
  help: `What ${name} is`,
  unit: 'mm',
  low: 0,
  high: 200,
  choices: [],
  written: '',
  ...more,
})
const operations = [
  {
    name: 'loose_pieces',
    title: 'Loose pieces',
    parameters: [
      number('gap_mm'),
      number('keep', { kind: 'places', default: [] }),
      number('passes', { kind: 'passes', default: null }),
    ],
  },
  { name: 'trim_fuzz', title: 'Trim fuzz', parameters: [number('margin_mm')] },
]

function stand(
  passes = [
    { title: 'upright', placed: true },
    { title: 'tipped', placed: false },
  ],
) {
  const preview = shallowRef<unknown>(null)
  const tool = shallowRef<unknown>(null)
  const parts = new Map<string, unknown>()
  const made = {
    bench: {
      bench: ref({ passes, steps: [], mesh: null }),
      changed: ref(null),
      catalogue: ref({ operations }),
      busy: ref(false),
      capturing: ref(null),
      lookOnly: ref(false),
      operation: vi.fn(),
    },
    view: {
      mode: ref('colour'),
      hidden: ref<boolean[]>([]),
      tool,
      card: ref(''),
      liveUrl: ref(''),
      snapshot: ref('s1'),
      viewer: shallowRef({
        points: { unmark: vi.fn(), markShown: vi.fn() },
        ask: vi.fn(),
        flyTo: vi.fn(),
        asJson: () => ({}),
      }),
      use: vi.fn((t: unknown) => (tool.value = t)),
    },
    live: {
      preview,
      coverage: shallowRef<unknown>(null),
      coverageRefused: ref(''),
      refused: ref(''),
      show: vi.fn(),
      hide: vi.fn(),
    },
    goTo: vi.fn(),
    part: (name: string, make: (c: unknown) => unknown) => {
      if (!parts.has(name)) parts.set(name, make(context))
      return parts.get(name)
    },
  }
  context = made as unknown as BenchContext
  return { ...made, preview }
}
const global = { plugins: [[PrimeVue, { unstyled: true }]] as never }

beforeEach(() => {
  setActivePinia(createPinia())
  vi.stubGlobal(
    'Worker',
    class {
      postMessage = vi.fn()
      terminate = vi.fn()
    },
  )
})

describe('the card of marking', () => {
  it('puts a tool on, counts, and makes a step of what is marked', async () => {
    const made = stand()
    const form = mount(MarkForm, { props: { busy: false, main: true }, global })
    expect((made.view.tool.value as { name: string }).name).toBe('lasso')
    expect(form.text()).toContain('Nothing is marked')
    const marks = context.part('marking', marking)
    marks.hand.done({ shape: 'joined', at: [0, 0, 1] }, false)
    await nextTick()
    expect(form.find('[data-test=mark-figures]').text()).toContain('…')
    made.preview.value = {
      figures: {
        marked: 12_400,
        points: 100_000,
        area_cm2: 3.456,
        passes: [
          { pass: 'upright', marked: 12_000, points: 60_000 },
          { pass: 'tipped', marked: 400, points: 40_000 },
        ],
      },
    }
    await nextTick()
    const said = form
      .find('[data-test=mark-figures]')
      .text()
      .replace(/\u2009/g, ' ')
    expect(said).toContain('12 k · 3.46 cm² · 12.4 %')
    expect(said).toMatch(/upright.*12 k.*tipped.*400/)
    await form.find('[data-test=set-aside]').trigger('click')
    await form.find('form').trigger('submit')
    expect(made.bench.operation.mock.calls.map((c) => c[0])).toEqual(['set_aside', 'take_away'])
    form.unmount()
    expect(made.view.tool.value).toBe(null)
  })
  it('has a slider for the tip of the tool that is on', async () => {
    const made = stand()
    const form = mount(MarkForm, { props: { busy: false, main: true }, global })
    expect(form.find('.tip').exists()).toBe(false)
    made.view.tool.value = { name: 'ball', card: 'take_away' }
    await nextTick()
    expect(
      form
        .find('.tip')
        .text()
        .replace(/\u2009/g, ' '),
    ).toContain('4 mm')
  })
})

describe('the card of what would go', () => {
  it('shows it while numbers change, keeps a bit that is wanted, and runs with what is shown', async () => {
    const made = stand()
    made.view.hidden.value = [false, true]
    const form = mount(PreviewedForm, { props: { busy: false, main: true, name: 'loose_pieces' }, global })
    expect(made.live.show).toHaveBeenLastCalledWith('loose_pieces', {
      gap_mm: 0,
      keep: [],
      passes: ['upright'],
    })
    expect(form.text()).toContain('Looking at what would go')
    const piece = (area_cm2: number, stays: boolean) => ({ points: 9, area_cm2, at: [area_cm2, 0, 0], stays })
    made.preview.value = {
      figures: {
        points_before: 1000,
        points_after: 900,
        gap_mm: 1.234,
        pieces: 2,
        largest: [piece(50, true), piece(1, false)],
      },
    }
    await nextTick()
    expect(
      form
        .find('[data-test=would-go]')
        .text()
        .replace(/\u2009/g, ' '),
    ).toMatch(/1\.23 mm.*100 · 10\.0 %/)
    await form.findAll('[data-test=pieces] button')[1].trigger('click')
    expect(made.live.show.mock.calls.at(-1)![1].keep).toEqual([[1, 0, 0]])
    await form.findAll('[data-test=pieces] button')[1].trigger('click')
    expect(made.live.show.mock.calls.at(-1)![1].keep).toEqual([])
    await form.find('form').trigger('submit')
    expect(made.bench.operation).toHaveBeenCalledWith('loose_pieces', {
      gap_mm: 0,
      keep: [],
      passes: ['upright'],
    })
    form.unmount()
    expect(made.live.hide).toHaveBeenCalled()
  })
  it('names no passes to an operation that takes none', () => {
    const made = stand()
    mount(PreviewedForm, { props: { busy: false, main: true, name: 'trim_fuzz' }, global })
    expect(made.live.show).toHaveBeenLastCalledWith('trim_fuzz', { margin_mm: 0 })
  })
})

describe('the cards of the passes', () => {
  it('offer what would place one that is not', async () => {
    const made = stand()
    const cards = mount(PassCards, { global })
    expect(cards.findAll('li')).toHaveLength(2)
    const [snap, markers, match, common, bridge] = cards.findAll('.acts button')
    await snap.trigger('click')
    expect(made.view.card.value).toBe('snap')
    await markers.trigger('click')
    expect(made.bench.operation.mock.calls).toEqual([['by_markers']])
    await match.trigger('click')
    expect(made.view.card.value).toBe('match_points')
    await common.trigger('click')
    expect(made.view.mode.value).toBe('coverage')
    await bridge.trigger('click')
    expect(made.goTo).toHaveBeenCalledWith('capture')
  })
  it('says where a pass that is not placed shares with the others, as far as it is known how the object lay', async () => {
    const made = stand()
    const card = mount(CoverageCard, { global })
    made.view.mode.value = 'coverage'
    const next = { words: 'a turn lying on its side', stops: 12, gain: 0.2, common: 0.61 }
    const figures = {
      whole: true,
      seen_enough: 0.7,
      thin_cm2: 3,
      never_cm2: 9,
      times: 2,
      sides: 1,
      next: [next],
    }
    made.live.coverage.value = { figures: { ...figures, waiting: [{ title: 'tipped', common: 0.43 }] } }
    const { shown } = suggestions(context)
    await nextTick()
    await card.find('[data-test=waiting-pass] button').trigger('click')
    expect(shown.value).toEqual({ name: 'tipped', common: 0.43, number: 1 })
    expect(card.find('[data-test=share]').text()).toContain('seen again')
    await card.find('[data-test=where-next-0]').trigger('click')
    expect(shown.value).toMatchObject({ number: 0, common: 0.61 })
    await card.find('[data-test=where-next-0]').trigger('click')
    expect(shown.value).toBeNull()
    made.live.coverage.value = { figures: { ...figures, waiting: [] } }
    mount(PassCards, { global }).findAll('.acts button')[3].trigger('click')
    await nextTick()
    expect(card.text()).toContain('How the object lay for “tipped” is not known')
  })
  it('are not there for a single pass', () => {
    stand([{ title: 'upright', placed: true }])
    expect(mount(PassCards, { global }).find('ul').exists()).toBe(false)
  })
})

describe('the card of true scale', () => {
  it('tells what is measured between two flat faces before anything is scaled', async () => {
    const { preview, bench, live } = stand()
    const form = mount(ScaleForm, {
      props: { busy: false, main: true, name: 'set_scale' },
      global: { ...global, stubs: ['RouterLink'] },
    })
    const spots = spotsPart(context)
    spots.picked.scale = [
      [0, 0, 0],
      [40, 9, 0],
    ]
    await nextTick()
    expect(form.find('[data-test=scale-told]').text()).toContain('41.00')
    await form.find('select').setValue('planes')
    expect(live.show).toHaveBeenLastCalledWith('set_scale', { places: spots.picked.scale, across: 'planes' })
    expect(form.find('[data-test=scale-told]').exists()).toBe(false)
    preview.value = { figures: { before_mm: 40 }, layers: [] }
    await form.find('[data-test=caliper]').setValue('40.4')
    expect(form.find('[data-test=scale-told]').text()).toMatch(/40\.00.*\+1\.00/)
    await form.find('form').trigger('submit')
    expect(bench.operation).toHaveBeenCalledWith('set_scale', {
      places: spots.picked.scale,
      across: 'planes',
      true_mm: 40.4,
    })
    form.unmount()
    expect(live.hide).toHaveBeenLastCalledWith('set_scale')
  })
})

describe('ghost layers', () => {
  const ghost = { pass: 'tipped', frames: [3, 4, 5], apart_mm: 0.213, noises: 2.6, at: [1, 2, 3] }
  it('are named with how far they lie off, flown to, and mended in three ways or settled', async () => {
    const { preview, bench, view, live } = stand()
    const form = mount(GhostForm, { props: { busy: false, main: true, name: 'ghost_layers' }, global })
    expect(live.show).toHaveBeenCalledWith('ghost_layers', {})
    expect(form.text()).toContain('Comparing what the frames laid')
    expect(form.findAll('button')).toHaveLength(0)
    preview.value = { figures: { found: [ghost] }, layers: [] }
    await nextTick()
    const told = form
      .get('[data-test=ghost]')
      .text()
      .replace(/\u2009/g, ' ')
    expect(told).toContain('frames 4 to 6 · 2.6 × the noise')
    expect(told).toContain('0.21 mm')
    await form.get('[aria-label="Go there: ghost layer of tipped, frames 4 to 6"]').trigger('click')
    expect(view.viewer.value.flyTo).toHaveBeenCalledWith([1, 2, 3])
    await form.get('form').trigger('submit')
    const press = (words: string) =>
      form
        .findAll('button')
        .find((b) => b.text() === words)!
        .trigger('click')
    for (const words of ['Leave frames out', 'Take skin away', 'Settle again']) await press(words)
    expect(bench.operation.mock.calls).toEqual([
      ['ghost_layers', { mend: 'move' }],
      ['ghost_layers', { mend: 'leave_out' }],
      ['ghost_layers', { mend: 'take_skin' }],
      ['settle', {}],
    ])
  })
  it('are said not to be there in words', async () => {
    const { preview } = stand()
    const form = mount(GhostForm, { props: { busy: false, main: true, name: 'ghost_layers' }, global })
    preview.value = { figures: { found: [] }, layers: [] }
    await nextTick()
    expect(form.text()).toBe('No ghost layer: all frames lay one surface.')
  })
})

describe('passes off and on', () => {
  it('are switched by one click, but never the last that is on', async () => {
    const { bench } = stand([
      { title: 'upright', placed: true },
      { title: 'tipped', placed: true },
    ])
    const cards = mount(PassCards, { global })
    await cards.get('[data-test=pass-on-1]').trigger('change')
    expect(bench.operation).toHaveBeenCalledWith('switch_passes', { off: ['tipped'] })
    stand([{ title: 'upright', placed: true }, { title: 'tipped', placed: true, off: true } as never])
    const off = mount(PassCards, { global })
    expect(off.get('[data-test=pass-on-0]').attributes('disabled')).toBeDefined()
    await off.get('[data-test=pass-on-1]').trigger('change')
    expect(context.bench.operation).toHaveBeenCalledWith('switch_passes', { off: [] })
  })
})
