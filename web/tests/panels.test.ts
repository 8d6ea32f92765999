import { mount } from '@vue/test-utils'
import { describe, expect, it, vi } from 'vitest'
import type { Finding, PassFigures, StageView, StepView } from '@/api/client'
import FindingsPanel from '@/components/FindingsPanel.vue'
import PassTracks from '@/components/PassTracks.vue'
import RunSheet from '@/components/RunSheet.vue'
import StageThread from '@/components/StageThread.vue'
import { STAGES } from '@/bench/stages'
import DeliverSheet from '@/bench/stages/deliver/DeliverSheet.vue'

const finding = (more: Partial<Finding> = {}): Finding =>
  ({
    kind: 'hole',
    stage: 'fuse',
    title: 'Holes left',
    detail: 'A print needs them closed.',
    figure: '3',
    operation: 'close',
    place: [1, 2, 3],
    ...more,
  }) as Finding

const step = (more: Partial<StepView> = {}): StepView =>
  ({
    id: 1,
    operation: 'fuse',
    title: 'Fuse',
    stage: 'fuse',
    seconds: 65,
    parameters: {},
    report: { voxel_mm: 0.5, triangles: 600_000 },
    headline: '600 k at 0.50 mm',
    undone: false,
    ...more,
  }) as unknown as StepView

const pass = (more: Partial<PassFigures> = {}): PassFigures =>
  ({
    title: 'upright',
    capture: 'a',
    tracking: 'turntable',
    frames: 4,
    frames_in: [true, true, false, true],
    fit_mm: [0.03, 0.031, 0.2, 0.03],
    kept_share: [0.1, 0.2, 0.1, 0.15],
    rms_mm: 0.0312,
    noise_mm: 0.02,
    posed: true,
    cut: true,
    placed: true,
    ...more,
  }) as PassFigures

describe('findings', () => {
  const props = { stage: 'fuse' as const, titles: { close: 'Close holes' }, busy: false, empty: false }

  it('say what to do when there is nothing to judge, and when nothing is wrong', async () => {
    const panel = mount(FindingsPanel, { props: { ...props, findings: [], empty: true } })
    expect(panel.text()).toContain('Capture or import a pass')
    await panel.setProps({ empty: false })
    expect(panel.text()).toContain('Nothing is wrong')
  })
  it('offer the operation that mends, the place and the stage', async () => {
    const panel = mount(FindingsPanel, { props: { ...props, findings: [finding()], stage: 'mend' } })
    const buttons = panel.findAll('button')
    expect(buttons.map((b) => b.text())).toEqual(['Close holes', 'Show', 'Go there'])
    for (const button of buttons) await button.trigger('click')
    expect(panel.emitted('mend')).toEqual([['close']])
    expect(panel.emitted('show')).toEqual([[finding()]])
    expect(panel.emitted('go')).toEqual([['fuse']])
  })
  it('do not mend while something computes', () => {
    const panel = mount(FindingsPanel, { props: { ...props, findings: [finding()], busy: true } })
    expect(panel.find('button').attributes('disabled')).toBeDefined()
  })
  it('count those of this stage', () => {
    const findings = [finding(), finding({ stage: 'set', operation: null, place: null })]
    const panel = mount(FindingsPanel, { props: { ...props, findings } })
    expect(panel.text()).toContain('1 here · 2 in all')
  })
})

describe('run sheet', () => {
  it('shows each step with its figures and time', () => {
    const sheet = mount(RunSheet, { props: { steps: [step()], busy: false } })
    expect(sheet.text()).toContain('Fuse')
    expect(sheet.text()).toContain('1:05')
    expect(sheet.text()).toMatch(/600.k at 0\.50.mm/)
  })
  it('undoes what is done and redoes what is undone', async () => {
    const sheet = mount(RunSheet, {
      props: { steps: [step(), step({ id: 2, undone: true })], busy: false },
    })
    await sheet.find('[data-test=undo]').trigger('click')
    await sheet.find('[data-test=redo]').trigger('click')
    expect(Object.keys(sheet.emitted())).toEqual(expect.arrayContaining(['undo', 'redo']))
    expect(sheet.findAll('li').map((l) => l.classes('undone'))).toEqual([false, true])
  })
  it('offers neither without steps or while busy', async () => {
    const sheet = mount(RunSheet, { props: { steps: [] as StepView[], busy: false } })
    expect(sheet.find('[data-test=undo]').attributes('disabled')).toBeDefined()
    await sheet.setProps({ steps: [step()], busy: true })
    expect(sheet.find('[data-test=undo]').attributes('disabled')).toBeDefined()
  })
})

describe('pass tracks', () => {
  const props = { live: null, hidden: [false] }

  it('tell frames in, left out and badly fitting ones', () => {
    const tracks = mount(PassTracks, { props: { ...props, passes: [pass()] } })
    const ticks = tracks.findAll('.ticks i')
    expect(ticks).toHaveLength(4)
    expect(ticks.map((t) => t.classes('out'))).toEqual([false, false, true, false])
    expect(ticks.map((t) => t.classes('bad'))).toEqual([false, false, true, false])
    expect(ticks[2].attributes('title')).toContain('left out')
    expect(tracks.text()).toContain('3 of 4 frames in')
  })
  it('say which frame was picked and which pass is hidden', async () => {
    const tracks = mount(PassTracks, { props: { ...props, passes: [pass()] } })
    const track = tracks.get('[data-test=frame-ticks]')
    vi.spyOn(track.element, 'getBoundingClientRect').mockReturnValue({ left: 0, width: 100 } as DOMRect)
    await track.trigger('pointerdown', { clientX: 30 })
    await tracks.find('.swatch').trigger('click')
    expect(tracks.emitted('frame')).toEqual([[0, 1]])
    expect(tracks.emitted('toggle')).toEqual([[0]])
  })
  it('leave a range of frames out and take it back, unless nothing can be changed', async () => {
    const tracks = mount(PassTracks, { props: { ...props, passes: [pass()] } })
    const track = tracks.get('[data-test=frame-ticks]')
    vi.spyOn(track.element, 'getBoundingClientRect').mockReturnValue({ left: 0, width: 100 } as DOMRect)
    await track.trigger('pointerdown', { clientX: 10 })
    expect(tracks.find('[data-test=take-back]').exists()).toBe(false)
    await track.trigger('pointermove', { clientX: 60, buttons: 1 })
    expect(tracks.get('[data-test=frame-acts]').text()).toContain('Frames 1 to 3')
    await track.trigger('keydown', { key: 'Delete' })
    expect(tracks.emitted('leave')).toEqual([[0, 0, 2]])
    await track.trigger('pointerdown', { clientX: 60 })
    expect(tracks.find('[data-test=leave-out]').exists()).toBe(false)
    await tracks.get('[data-test=take-back]').trigger('click')
    expect(tracks.emitted('take')).toEqual([[0, 2, 2]])
    await tracks.setProps({ fixed: true })
    await track.trigger('pointerdown', { clientX: 10 })
    await track.trigger('keydown', { key: 'Delete' })
    expect(tracks.emitted('leave')).toHaveLength(1)
  })
  it('name a pass that is not aligned and one whose fit is not known', () => {
    const tracks = mount(PassTracks, { props: { ...props, passes: [pass({ placed: false, rms_mm: null })] } })
    expect(tracks.text()).toContain('not aligned')
    expect(tracks.text()).toContain('fit not known')
  })
})

describe('stage thread', () => {
  it('marks where one is and what waits there', async () => {
    const stages = [
      { name: 'capture', state: 'done', findings: 0 },
      { name: 'clean', state: 'current', findings: 2 },
    ] as StageView[]
    const thread = mount(StageThread, { props: { stages, titles: STAGES, current: 'clean' } })
    const buttons = thread.findAll('button')
    expect(buttons[1].attributes('aria-current')).toBe('step')
    expect(buttons[1].text()).toContain('2')
    expect(buttons.map((b) => b.attributes('title'))).toEqual(['Capture (Alt+1)', 'Clean (Alt+2)'])
    await buttons[0].trigger('click')
    expect(thread.emitted('pick')).toEqual([['capture']])
  })
})

describe('deliver', () => {
  const formats = [
    { name: 'stl', help: 'shape only, for print', carries: ['shape'] },
    { name: 'glb', help: 'with texture', carries: ['shape', 'texture'] },
  ]
  const mesh = { triangles: 300_000, watertight: true, made_up_area_fraction: 0.034 } as never

  it('waits for a mesh', () => {
    const sheet = mount(DeliverSheet, {
      props: { mesh: null, points: 0, passes: [], objectId: 'x', formats: [] },
    })
    expect(sheet.text()).toContain('no mesh yet')
    expect(sheet.findAll('a')).toHaveLength(0)
  })
  it('offers every format and gathered points', () => {
    const sheet = mount(DeliverSheet, {
      props: { mesh, points: 127_000, passes: [], objectId: 'x', formats },
    })
    expect(sheet.findAll('a').map((a) => a.attributes('href'))).toEqual([
      '/api/objects/x/download/stl',
      '/api/objects/x/download/glb',
      '/api/objects/x/download/points',
    ])
    expect(sheet.text()).toContain('watertight')
    expect(sheet.text()).toContain('shape only, for print')
  })
  it('gives single passes away, as a capture only where there are frames', () => {
    const passes = [
      { title: 'upright', capture: 'a', points: null },
      { title: 'scan', capture: 'b', points: { count: 5 } },
    ] as never
    const sheet = mount(DeliverSheet, {
      props: { mesh: null, points: 0, passes, objectId: 'x', formats: [] },
    })
    const rows = sheet.findAll('[data-test=pass-download]')
    expect(rows.map((r) => r.findAll('a').map((a) => a.text()))).toEqual([
      ['PLY', 'XYZ', 'E57', 'Capture'],
      ['PLY', 'XYZ', 'E57'],
    ])
    expect(rows[1].find('a').attributes('href')).toBe('/api/objects/x/passes/1/download/ply')
  })
})
