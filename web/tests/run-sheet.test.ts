import { mount } from '@vue/test-utils'
import { describe, expect, it } from 'vitest'
import type { BranchView, StepView } from '@/api/client'
import BranchList from '@/components/BranchList.vue'
import FindingsPanel from '@/components/FindingsPanel.vue'
import RecipeSteps from '@/components/RecipeSteps.vue'
import RunSheet from '@/components/RunSheet.vue'
import { NO_WISH, sifted, type Sifted } from '@/lib/sift'

const step = (id: number, more: Partial<StepView> = {}) =>
  ({
    id,
    operation: 'fuse',
    title: `Step ${id}`,
    stage: 'fuse',
    seconds: 5,
    parameters: {},
    report: {},
    headline: '',
    undone: false,
    known: false,
    who: 'mira',
    version: '0.1.0',
    before: null,
    after: `s${id}`,
    created: '2026-03-02T10:00:00Z',
    ...more,
  }) as StepView

describe('run sheet', () => {
  const steps = [step(1, { operation: 'add_pass' }), step(2), step(3, { known: true })]
  const sheet = (more: object = {}) =>
    mount(RunSheet, { props: { steps, busy: false, changeable: ['fuse'], ...more } })

  it('tells who did a step, when and with which version, and offers to go on, change and leave out', async () => {
    const shown = sheet({ opened: 2 })
    const details = shown.find('[data-test=step-details]')
    expect(details.text()).toMatch(/mira, 2 Mar,? .*0:05.*version 0\.1\.0/)
    for (const name of ['go-on', 'change-step', 'leave-out'])
      await details.find(`[data-test=${name}]`).trigger('click')
    for (const name of ['goOn', 'change', 'leaveOut']) expect(shown.emitted(name)).toEqual([[steps[1]]])
    expect(shown.text()).toContain('known')
  })
  it('changes no step that no operation makes, and goes on from none that is the last', () => {
    expect(sheet({ opened: 1 }).find('[data-test=change-step]').exists()).toBe(false)
    expect(sheet({ opened: 3 }).find('[data-test=go-on]').exists()).toBe(false)
  })
  it('shows what follows a changed step as stale', () => {
    const shown = sheet({ marked: { 2: 'changed' } })
    expect(shown.findAll('li').map((l) => l.classes('stale'))).toEqual([false, false, true])
    expect(shown.findAll('li')[1].text()).toContain('changed')
  })
})

describe('branches', () => {
  const branch = (more: Partial<BranchView>) =>
    ({
      id: 1,
      name: 'Branch 1',
      current: false,
      steps: 5,
      own: 2,
      parts_at: 'Settle',
      last: '',
      tip: 't',
      surface: true,
      ...more,
    }) as BranchView
  it('are gone to, compared, named and thrown away, but not the one that is worked on', async () => {
    const branches = [branch({ id: 2, name: 'Finer', current: true, own: 0 }), branch({})]
    const list = mount(BranchList, { props: { branches, busy: false, comparing: false } })
    const [own, other] = list.findAll('[data-test=branch]')
    expect(own.find('[data-test=throw-branch-away]').exists()).toBe(false)
    expect(other.text()).toContain('2 of 5 steps of its own, from “Settle” on')
    for (const name of ['go-to-branch', 'compare-branch', 'throw-branch-away'])
      await other.find(`[data-test=${name}]`).trigger('click')
    expect([list.emitted('go'), list.emitted('compare'), list.emitted('throwAway')]).toEqual([
      [[1]],
      [[branches[1]]],
      [[1]],
    ])
    await other.find('[aria-label="Name Branch 1"]').trigger('click')
    await other.find('[data-test=branch-name]').setValue('Even')
    await other.find('form').trigger('submit')
    expect(list.emitted('name')).toEqual([[1, 'Even']])
  })
})

describe('findings', () => {
  const finding = (more: object) => ({
    name: 'a',
    kind: 'hole',
    stage: 'fuse',
    title: 'Holes left',
    detail: '',
    figure: '3',
    operation: null,
    place: null,
    ...more,
  })
  it('come with those of the stage first, and are accepted only with a word', async () => {
    const findings = [finding({ name: 'a', stage: 'set', title: 'Crooked' }), finding({ name: 'b' })]
    const panel = mount(FindingsPanel, {
      props: { findings, stage: 'fuse', titles: {}, busy: false, empty: false, mayAccept: true },
    })
    expect(panel.findAll('[data-test=finding] b').map((b) => b.text())).toEqual(['Holes left', 'Crooked'])
    await panel.find('[data-test=begin-accept]').trigger('click')
    expect(panel.find('[data-test=accept-finding]').attributes('disabled')).toBeDefined()
    await panel.find('[data-test=accept-word]').setValue('the keyhole')
    await panel.find('form').trigger('submit')
    expect(panel.emitted('accept')).toEqual([[findings[1], 'the keyhole']])
  })
})

describe('steps of a recipe', () => {
  it('are moved, left out and freed of marks, each with what is wrong with it', async () => {
    const operations = [
      { name: 'heal', title: 'Heal', stage: 'mend', parameters: [{ name: 'marks', kind: 'marks' }] },
      { name: 'fuse', title: 'Fuse', stage: 'fuse', parameters: [{ name: 'voxel_mm', kind: 'number' }] },
    ] as never
    const steps = [
      { operation: 'fuse', parameters: { voxel_mm: 0.5 } },
      { operation: 'heal', parameters: { marks: { strokes: [] } } },
    ]
    const judged = [
      { fault: '', note: '' },
      { fault: 'wrong', note: '' },
    ]
    const list = mount(RecipeSteps, { props: { steps, judged, operations, fixed: false } })
    const lines = list.findAll('[data-test=recipe-line]')
    expect(lines[0].text()).toContain('voxel 0.5')
    expect(lines[1].text()).toContain('marked by hand')
    expect(lines[1].find('[role=alert]').text()).toBe('wrong')
    await lines[1].find('[data-test=unmark]').trigger('click')
    await lines[1].find('[aria-label="Move step 2 up"]').trigger('click')
    await lines[0].find('[data-test=remove-step]').trigger('click')
    await list.find('[data-test=operation-to-add]').setValue('heal')
    await list.find('[data-test=add-step]').trigger('click')
    expect(list.emitted()).toMatchObject({ unmark: [[1]], move: [[1, 0]], remove: [[0]], add: [['heal']] })
    expect(
      mount(RecipeSteps, { props: { steps, judged, operations, fixed: true } })
        .find('.acts')
        .exists(),
    ).toBe(false)
  })
})

describe('the sieve of the shelf', () => {
  const item = (title: string, more: Partial<Sifted> = {}): Sifted => ({
    title,
    notes: '',
    tags: [],
    owner: '',
    size_mm: null,
    standing: 'empty',
    archived: false,
    deleted: null,
    changed: '2026-01-01',
    created: '2026-01-01',
    stages: [],
    ...more,
  })
  const items = [
    item('Bell 10', { size_mm: 120, standing: 'ready', changed: '2026-01-05', tags: ['loan'] }),
    item('Bell 9', { size_mm: 30, stages: [{ findings: 2 }], owner: 'ruth' }),
    item('Anchor', { size_mm: 400, archived: true }),
    item('Nail', { deleted: '2026-01-02' }),
  ]
  const titles = (part: object) => sifted(items, { ...NO_WISH, ...part }).map((i) => i.title)

  it('finds by words of name, note, tag and owner', () => {
    expect(titles({ words: 'bell' })).toEqual(['Bell 10', 'Bell 9'])
    expect(titles({ words: 'loan BELL' })).toEqual(['Bell 10'])
    expect(titles({ words: 'ruth' })).toEqual(['Bell 9'])
  })
  it('keeps shelf, archive and what is thrown away apart', () => {
    expect([titles({}).length, titles({ where: 'archive' }), titles({ where: 'thrown' })]).toEqual([
      2,
      ['Anchor'],
      ['Nail'],
    ])
  })
  it('sifts by state, size, owner and tag', () => {
    expect(titles({ standing: 'waiting' })).toEqual(['Bell 9'])
    expect(titles({ standing: 'ready' })).toEqual(['Bell 10'])
    expect(titles({ size: 'small' })).toEqual(['Bell 9'])
    expect(titles({ owner: 'mine' })).toEqual(['Bell 10'])
    expect(titles({ tag: 'loan' })).toEqual(['Bell 10'])
  })
  it('orders by name with numbers as numbers, by size and by change', () => {
    expect(titles({ order: 'title' })).toEqual(['Bell 9', 'Bell 10'])
    expect(titles({ order: 'size' })).toEqual(['Bell 10', 'Bell 9'])
    expect(titles({ order: 'changed' })[0]).toBe('Bell 10')
  })
})
