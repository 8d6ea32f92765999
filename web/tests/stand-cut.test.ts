import { createPinia, setActivePinia } from 'pinia'
import { beforeEach, describe, expect, it, vi } from 'vitest'
import { nextTick, ref, shallowRef } from 'vue'
import type { BenchContext } from '@/bench/context'
import { edited, turned, untouched, type Vector } from '@/bench/planeEdit'
import { standCut } from '@/bench/stages/clean/standCut'
import { FIELDS, fieldOf, words } from '@/bench/worksheet/fields'
import type { ParameterView } from '@/api/client'

const CORNERS = [-50, -50, 4, 50, -50, 4, 50, 50, 4, -50, 50, 4]
const rounded = (v: ArrayLike<number>) => Array.from(v, (x) => +x.toFixed(4) + 0)

describe('a plane under the hand', () => {
  const flat = untouched([0, 0, 1, 4], CORNERS)

  it('stays as it was found until something is done', () => {
    expect(rounded(edited(flat).plane)).toEqual([0, 0, 1, 4])
    expect(rounded(edited(flat).corners)).toEqual(CORNERS)
  })
  it('is pushed along its normal', () => {
    const { plane, corners } = edited({ ...flat, push: 3.5 })
    expect(rounded(plane)).toEqual([0, 0, 1, 7.5])
    expect(corners[2]).toBeCloseTo(7.5)
  })
  it('rises at the handle that is lifted', () => {
    for (const [kind, corner] of [
      ['along', 1],
      ['across', 3],
    ] as const) {
      const { plane, corners } = edited({ ...flat, [kind]: 20 })
      expect(corners[3 * corner + 2]).toBeGreaterThan(4 + 15)
      const [x, y, z, d] = plane
      expect(Math.hypot(x, y, z)).toBeCloseTo(1)
      for (let n = 0; n < 4; n++)
        expect(x * corners[3 * n] + y * corners[3 * n + 1] + z * corners[3 * n + 2]).toBeCloseTo(d, 3)
      expect(z).toBeCloseTo(Math.cos(Math.PI / 9), 5)
    }
  })
  it('keeps the other side when flipped', () => {
    const there = edited({ ...flat, push: 2, along: 10 }).plane
    expect(rounded(edited({ ...flat, push: 2, along: 10, flipped: true }).plane)).toEqual(
      rounded(there.map((v) => -v)),
    )
  })
  it('turns by the right hand', () => {
    expect(rounded(turned([1, 0, 0], [0, 0, 1], 90))).toEqual([0, 1, 0])
    const tilted = turned([1, 2, 3], [0.6, 0, 0.8], 77) as Vector
    expect(Math.hypot(...tilted)).toBeCloseTo(Math.hypot(1, 2, 3))
  })
})

describe('a stand cut by hand', () => {
  beforeEach(() => setActivePinia(createPinia()))
  const figures = [
    {
      pass: 'upright',
      by: 'found',
      plane: [0, 0, 1, 3.9],
      above_mm: 0.1,
      points_before: 900,
      points_after: 600,
    },
    { pass: 'tipped', by: 'none', why: 'No plate was found.', points_before: 500, points_after: 500 },
  ]
  function opened() {
    const preview = shallowRef<unknown>(null)
    const live = { preview, show: vi.fn(), hide: vi.fn() }
    const planes = { set: vi.fn() }
    const bench = { bench: ref({ passes: [{ title: 'upright' }, { title: 'tipped' }] }), operation: vi.fn() }
    const view = { hidden: ref<boolean[]>([]), viewer: shallowRef({ planes, ask: vi.fn() }) }
    const cut = standCut({ bench, view, live } as unknown as BenchContext)
    const show = () => {
      preview.value = {
        figures: { passes: figures },
        layers: [{ kind: 'plane', pass: 'upright', arrays: { corners: new Float32Array(CORNERS) } }],
      }
    }
    return { cut, live, planes, bench, view, show }
  }
  it('asks for what is found while it is active, for the passes that are shown', async () => {
    const { cut, live, view } = opened()
    expect(live.show).not.toHaveBeenCalled()
    cut.active.value = true
    await nextTick()
    expect(live.show).toHaveBeenLastCalledWith('stand_cut', {
      above_mm: 0,
      planes: null,
      line: null,
      passes: null,
    })
    view.hidden.value = [false, true]
    await nextTick()
    expect(live.show.mock.calls.at(-1)![1].passes).toEqual(['upright'])
    cut.active.value = false
    await nextTick()
    expect(live.hide).toHaveBeenCalled()
  })
  it('begins a push where the cut is, and gives the plane without what is added above it', async () => {
    const { cut, planes, show } = opened()
    cut.active.value = true
    show()
    await nextTick()
    expect(cut.chosen.value).toBe('upright')
    expect([cut.before.value, cut.after.value]).toEqual([1400, 1100])
    cut.drag('push', 2, false)
    cut.drag('push', 3, true)
    await nextTick()
    expect(rounded(cut.parameters.value.planes!.upright as number[])).toEqual([0, 0, 1, 7])
    expect(planes.set.mock.calls.at(-1)![0][0].corners[2]).toBeCloseTo(7)
    cut.drag('push', -1, true)
    expect(cut.edits.upright.push).toBe(2)
    cut.above.value = 0.5
    expect(rounded(cut.parameters.value.planes!.upright as number[])).toEqual([0, 0, 1, 5.5])
  })
  it('never tilts a plane out of reach, flips it, and goes back to what was found', async () => {
    const { cut, show } = opened()
    cut.active.value = true
    show()
    await nextTick()
    cut.change({ across: 400 })
    expect(cut.edits.upright.across).toBe(85)
    cut.change({ across: 0 })
    cut.flip()
    expect(rounded(cut.parameters.value.planes!.upright as number[])).toEqual([0, 0, -1, -4])
    expect(cut.touched.value).toBe(true)
    cut.reset()
    expect(cut.touched.value).toBe(false)
    expect(cut.parameters.value.planes).toBeNull()
  })
  it('is taken as one step with what the hand did, and begins anew', async () => {
    const { cut, bench } = opened()
    const line = { start: [1, 2], end: [3, 4], view: {} } as never
    cut.draw(line)
    await cut.use()
    expect(bench.operation).toHaveBeenCalledWith('stand_cut', {
      above_mm: 0,
      planes: null,
      line,
      passes: null,
    })
    expect(cut.line.value).toBeNull()
  })
  it('leaves alone what has no plate', async () => {
    const { cut, show } = opened()
    show()
    await nextTick()
    cut.chosen.value = 'tipped'
    cut.flip()
    cut.drag('push', 4, true)
    expect(cut.edits).toEqual({})
  })
})

describe('fields', () => {
  // Source: the kinds of the core's catalogue (operations/parameters/kinds).
  const KINDS = ['photographs', 'white', 'choice_or_place', 'number', 'whole', 'switch', 'text', 'choice', 'numbers', 'place', 'places', 'plane', 'planes', 'line',
    'matrix', 'pairs', 'marks', 'pass', 'passes', 'frames', 'colour'] // prettier-ignore

  it('are there for every kind of the server and for no other', () => {
    expect(Object.keys(FIELDS).sort()).toEqual([...KINDS].sort())
    expect(() => fieldOf({ kind: 'shade' } as ParameterView)).toThrow('no field')
  })
  it('are named in plain words', () => {
    expect(['above_mm', 'need_plate', 'turn_deg'].map(words)).toEqual(['Above', 'Need plate', 'Turn'])
  })
})
