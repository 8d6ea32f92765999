import { createPinia, setActivePinia } from 'pinia'
import { afterEach, beforeEach, describe, expect, it, vi, type Mock } from 'vitest'
import { nextTick, ref, shallowRef } from 'vue'
import { mount } from '@vue/test-utils'
import * as THREE from 'three'
import type { BenchContext } from '@/bench/context'
import { markActions } from '@/bench/marks/actions'
import { marking, type MarkFigures } from '@/bench/marks/marking'
import { KeyCursor } from '@/bench/viewer/keyCursor'
import { writeFlags } from '@/bench/viewer/layers/flags'
import type { ScreenLines } from '@/bench/viewer/layers/ScreenLines'
import { PointerOwner } from '@/bench/viewer/pointer'
import type { Orbit } from '@/bench/viewer/tools/Orbit'
import { Around, Ball, Brush, Corners, Joined, type Drawn } from '@/bench/viewer/tools/marking'
import type { ToolView } from '@/bench/viewer/tools/Tool'
import PieceBars from '@/components/PieceBars.vue'
import sample from '../../tests/data/marked.json'
import type { MarkCloud } from '@/lib/blocks'
import { Marker } from '@/lib/marked'
import type { MarkAnswer } from '@/lib/marks.worker'
import { windowOf } from '@/lib/outline'
import { flagged } from '@/lib/packed'
import { simplified, type Pixel, type ScreenStroke, type Stroke } from '@/lib/strokes'

const cloudOf = (count: number): MarkCloud => ({
  count,
  origin: [0, 0, 0],
  step: 1,
  spacing: 1,
  positions: new Uint16Array(3 * count),
  normals: new Int8Array(4 * count),
})
const at = (x: number, y: number, shift = false) => ({ x, y, shift })

describe('marking at once', () => {
  const cloud: MarkCloud = {
    ...sample.cloud,
    origin: sample.cloud.origin as [number, number, number],
    positions: Uint16Array.from(sample.cloud.positions),
    normals: Int8Array.from(sample.cloud.normals.flatMap((n: number[]) => [...n, 0])),
  }
  it.each([0, 1, 2, 3])('agrees with the core, strokes %i', (k) => {
    const marker = new Marker()
    marker.set(0, cloud)
    const flags = marker.flags({ strokes: sample.strokes[k] as unknown as Stroke[], invert: false }).get(0)!
    const theirs = sample.flags[k] as number[]
    const differ = theirs.filter((v, n) => (v === 1) !== flagged(flags, n)).length
    // Depths are single precision here: a point at the very margin may fall to the other side.
    expect(differ).toBeLessThanOrEqual(0.002 * cloud.count)
    expect(theirs.filter(Boolean).length).toBeGreaterThan(100)
  })
  it('answers alike when it looked ahead at a part of the view while a stroke was drawn', () => {
    const [once, ahead] = [new Marker(), new Marker()]
    const strokes = sample.strokes.flat() as unknown as Stroke[]
    for (const marker of [once, ahead]) marker.set(0, cloud)
    const seen = strokes.find((s) => 'view' in s && !s.through) as ScreenStroke
    const marks = { strokes: [seen], invert: false }
    const [u, v] = seen.points[0]
    ahead.look(seen.view, windowOf([[u, v]], 5))
    ahead.look(seen.view, windowOf(seen.points.slice(0, 2), 0))
    expect(ahead.flags(marks)).toEqual(once.flags(marks))
  })
  it('marks first what is shown while the view moves: the first points of the cloud', () => {
    const marker = new Marker()
    marker.set(0, cloud)
    expect(marker.share).toBeGreaterThan(1)
    for (const strokes of sample.strokes as unknown as Stroke[][]) {
      const some = marker.flags({ strokes, invert: false }, 0.2).get(0)!
      const all = marker.flags({ strokes, invert: false }).get(0)!
      const wrong = Array.from({ length: cloud.count }, (_, n) => n).filter(
        (n) => flagged(some, n) !== (n < Math.ceil(cloud.count / 4) && flagged(all, n)),
      )
      expect(wrong).toEqual([])
      expect(some.some((byte) => byte > 0)).toBe(true)
    }
  })
  it('turns round, forgets a pass that is gone, and knows strokes it was asked before', () => {
    const marker = new Marker()
    marker.set(0, cloud)
    marker.set(3, cloud)
    const marks = { strokes: sample.strokes[0] as unknown as Stroke[], invert: false }
    const count = (flags: Uint8Array) =>
      Array.from({ length: cloud.count }, (_, n) => flagged(flags, n)).filter(Boolean).length
    const once = count(marker.flags(marks).get(3)!)
    expect(count(marker.flags({ ...marks, invert: true }).get(3)!)).toBe(cloud.count - once)
    marker.set(3, null)
    expect([...marker.flags(marks).keys()]).toEqual([0])
  })
})

describe('flags of points', () => {
  it('are written where they changed, and nothing is sent when they did not', () => {
    const attribute = new THREE.BufferAttribute(new Uint8Array(21), 1)
    const sent = () => [attribute.version, ...attribute.updateRanges.map((r) => [r.start, r.count])]
    writeFlags(attribute, Uint8Array.from([0, 0b101, 0]))
    expect([...attribute.array].flatMap((v, n) => (v ? n : []))).toEqual([8, 10])
    expect(sent()).toEqual([1, [8, 8]])
    writeFlags(attribute, Uint8Array.from([0, 0b101, 0]))
    expect(attribute.version).toBe(1)
    attribute.clearUpdateRanges()
    writeFlags(attribute, Uint8Array.from([0, 0b100, 0b10000]))
    expect([...attribute.array].flatMap((v, n) => (v ? n : []))).toEqual([10, 20])
    expect(sent()).toEqual([2, [8, 13]])
    writeFlags(attribute, null)
    expect(attribute.array.every((v) => v === 0)).toBe(true)
  })
})

describe('a path', () => {
  it('loses the corners that say nothing and keeps the others', () => {
    const straight = Array.from({ length: 50 }, (_, n): Pixel => [n, 2 * n + 0.1 * (n % 2)])
    expect(simplified(straight, 0.5)).toEqual([straight[0], straight[49]])
    const bent: Pixel[] = [
      [0, 0],
      [10, 0],
      [20, 0],
      [20, 10],
      [20, 20],
    ]
    expect(simplified(bent, 0.5)).toEqual([
      [0, 0],
      [20, 0],
      [20, 20],
    ])
  })
})

function shown(place: [number, number, number] | null = [0, 0, 0]) {
  const camera = new THREE.PerspectiveCamera()
  camera.position.set(0, -100, 0)
  return {
    camera,
    lines: { set: vi.fn(), ring: vi.fn(), cursor: vi.fn() },
    pick: vi.fn(() => (place ? { place } : null)),
    sight: () => ({ pixel: 0.001 }),
  } as unknown as Omit<ToolView, 'lines'> & { lines: { set: Mock; ring: Mock } } & ToolView
}
const strokes = () => ({
  begun: vi.fn(),
  under: vi.fn(),
  done: vi.fn<(d: Drawn | null, o: boolean) => void>(),
  radiusPx: 12,
  radiusMm: 5,
})

describe('shapes', () => {
  it('draw a lasso, and take no slip of the hand for one', () => {
    vi.useFakeTimers()
    const [view, hand] = [shown(), strokes()]
    const tool = new Around(view, hand, false)
    tool.down(at(10, 10))
    for (const [x, y] of [
      [60, 10],
      [60, 60],
      [10, 60],
    ])
      tool.move(at(x, y))
    expect(hand.begun).toHaveBeenCalledTimes(3)
    tool.up(at(10, 60, true))
    expect(hand.done).toHaveBeenLastCalledWith(
      {
        shape: 'lasso',
        points: [
          [10, 10],
          [60, 10],
          [60, 60],
          [10, 60],
        ],
        radius_px: 0,
      },
      true,
    )
    expect(view.lines.set.mock.calls.at(-1)![0]).toHaveLength(5)
    vi.advanceTimersByTime(200)
    expect(view.lines.set.mock.calls.at(-1)).toEqual([[]])
    vi.useRealTimers()
    tool.down(at(10, 10))
    tool.up(at(11, 10))
    expect(hand.done).toHaveBeenLastCalledWith(null, false)
  })
  it('draw a box from corner to corner', () => {
    const hand = strokes()
    const tool = new Around(shown(), hand, true)
    tool.down(at(80, 10))
    tool.move(at(20, 30))
    tool.up(at(30, 90))
    expect(hand.done.mock.calls[0][0]).toEqual({
      shape: 'box',
      points: [
        [80, 10],
        [30, 90],
      ],
      radius_px: 0,
    })
  })
  it('close a polygon at its first corner, or when told to', () => {
    const hand = strokes()
    const tool = new Corners(shown(), hand)
    for (const [x, y] of [
      [10, 10],
      [90, 10],
      [90, 90],
      [12, 14],
    ])
      tool.down(at(x, y))
    expect(hand.done.mock.calls[0][0]).toMatchObject({
      shape: 'polygon',
      points: [
        [10, 10],
        [90, 10],
        [90, 90],
      ],
    })
    expect(tool.close()).toBe(false)
    for (const [x, y] of [
      [10, 10],
      [90, 10],
    ])
      tool.down(at(x, y))
    // Too few corners: they are put away, and nothing else is done.
    expect(tool.close()).toBe(true)
    expect(hand.done).toHaveBeenCalledTimes(1)
  })
  it('sweep a brush and roll a ball, shown while they move', () => {
    const hand = strokes()
    const brush = new Brush(shown(), hand)
    brush.down(at(10, 10))
    brush.move(at(50, 10))
    expect(hand.under).toHaveBeenLastCalledWith(
      {
        shape: 'brush',
        points: [
          [10, 10],
          [50, 10],
        ],
        radius_px: 12,
      },
      false,
    )
    brush.up(at(50, 10))
    expect(hand.done.mock.calls[0][0]).toMatchObject({ shape: 'brush' })
    const view = shown([1, 2, 3])
    const ball = new Ball(view, hand)
    ball.down(at(10, 10))
    ball.up(at(10, 10))
    expect(hand.done).toHaveBeenLastCalledWith({ shape: 'ball', centres: [[1, 2, 3]], radius_mm: 5 }, false)
    // 5 mm at about 102 mm with pixels of a thousandth: some 49 pixels.
    expect(view.lines.ring.mock.calls[0][1]).toBeCloseTo(49, 0)
    const nowhere = new Ball(shown(null), hand)
    nowhere.down(at(1, 1))
    nowhere.up(at(1, 1))
    expect(hand.done).toHaveBeenLastCalledWith(null, false)
  })
  it('mean what hangs together with a click', () => {
    const hand = strokes()
    new Joined(shown([4, 5, 6]), hand).down(at(3, 3))
    expect(hand.done).toHaveBeenLastCalledWith({ shape: 'joined', at: [4, 5, 6] }, false)
  })
})

describe('a cursor moved by keys', () => {
  it('starts in the middle, draws while the tool is down, and is whole clicks for tools that click', () => {
    const host = document.createElement('div')
    const orbit = { yieldLeft: vi.fn() } as unknown as Orbit
    const pointer = new PointerOwner(host, orbit, vi.fn())
    const lines = { cursor: vi.fn(), set: vi.fn() }
    const cursor = new KeyCursor(pointer, lines as unknown as ScreenLines, () => [200, 100])
    expect(cursor.move(4, 0)).toBe(false)
    const hand = strokes()
    pointer.take(new Around(shown(), hand, true))
    expect(cursor.press(false)).toBe(false)
    cursor.move(-60, -30)
    cursor.press(false)
    cursor.move(100, 500)
    cursor.press(true)
    expect(hand.done).toHaveBeenLastCalledWith(
      {
        shape: 'box',
        points: [
          [40, 20],
          [140, 99],
        ],
        radius_px: 0,
      },
      true,
    )
    pointer.take(new Corners(shown(), hand))
    for (const [x, y] of [
      [0, 0],
      [40, 0],
      [0, -40],
    ]) {
      cursor.move(x, y)
      cursor.press(false)
    }
    pointer.dispose()
    cursor.hide()
    expect(cursor.shown).toBe(false)
  })
})

describe('what is marked', () => {
  beforeEach(() => {
    setActivePinia(createPinia())
    vi.useFakeTimers()
    vi.stubGlobal(
      'Worker',
      class {
        onmessage = () => {}
        postMessage = vi.fn()
        terminate = vi.fn()
        constructor() {
          workers.push(this)
        }
      },
    )
  })
  afterEach(() => vi.useRealTimers())
  const workers: { onmessage: (m: { data: MarkAnswer }) => void; postMessage: Mock }[] = []
  const box: Drawn = {
    shape: 'box',
    points: [
      [1, 2],
      [3, 4],
    ],
    radius_px: 0,
  }
  function opened() {
    const preview = shallowRef<unknown>(null)
    const live = { preview, show: vi.fn(), hide: vi.fn() }
    const bench = {
      bench: ref({ passes: [{ title: 'upright' }, { title: 'tipped' }] }),
      operation: vi.fn(),
      busy: ref(false),
    }
    const points = { unmark: vi.fn(), markShown: vi.fn() }
    const viewer = { asJson: () => ({ width: 640 }), points, ask: vi.fn(), askLightly: vi.fn() }
    const view = { hidden: ref<boolean[]>([]), viewer: shallowRef(viewer), snapshot: ref('s1') }
    const context = { bench, view, live } as unknown as BenchContext
    const marks = marking(context)
    return {
      marks,
      live,
      bench,
      view,
      preview,
      points,
      viewer,
      context: { ...context, part: () => marks } as unknown as BenchContext,
    }
  }
  it('adds up, steps back, turns round, and is asked of the shown passes', async () => {
    const { marks, live, view } = opened()
    marks.active.value = true
    await nextTick()
    expect(live.show).not.toHaveBeenCalled()
    marks.hand.done(box, false)
    marks.through.value = true
    marks.hand.done(box, true)
    view.hidden.value = [true]
    await nextTick()
    expect(live.show).not.toHaveBeenCalled()
    // Marks are shown before the service is asked for their count.
    vi.advanceTimersByTime(100)
    const [name, { marks: told, passes }] = live.show.mock.calls.at(-1)!
    expect([name, passes]).toEqual(['take_away', ['tipped']])
    expect(told.strokes.map((s: Stroke) => [s.add, (s as { through: boolean }).through])).toEqual([
      [true, false],
      [false, true],
    ])
    marks.stepBack()
    marks.invert.value = true
    await nextTick()
    vi.advanceTimersByTime(100)
    expect(live.show.mock.calls.at(-1)![1].marks).toMatchObject({ invert: true, strokes: [{ add: true }] })
    marks.clear()
    await nextTick()
    expect(live.hide).toHaveBeenCalled()
    const asked = live.show.mock.calls.length
    vi.advanceTimersByTime(1000)
    expect(live.show).toHaveBeenCalledTimes(asked)
  })
  it('shows lightly what the thread finds first, then all of it, and only of what was asked last', async () => {
    const { marks, points, viewer, preview } = opened()
    marks.points(0, cloudOf(5))
    marks.active.value = true
    await nextTick()
    viewer.ask.mockClear()
    marks.hand.begun([[1, 2]])
    marks.hand.done(box, false)
    await nextTick()
    const { onmessage, postMessage } = workers.at(-1)!
    expect(postMessage.mock.calls.map(([m]) => m.kind)).toEqual(['points', 'enough', 'look', 'mark'])
    const { id } = postMessage.mock.calls.at(-1)![0]
    onmessage({ data: null })
    const flags = new Map([[0, Uint8Array.of(1)]])
    onmessage({ data: { id, flags, whole: false } })
    expect([viewer.askLightly, viewer.ask].map((f) => f.mock.calls.length)).toEqual([1, 0])
    // Another stroke while it works: what was asked before is shown no more, the newest is asked when it is done.
    marks.stepBack()
    marks.hand.done({ ...box, radius_px: 1 }, false)
    await nextTick()
    onmessage({ data: { id, flags, whole: true } })
    expect(points.markShown).toHaveBeenCalledTimes(1)
    expect(postMessage.mock.calls.at(-1)![0]).toMatchObject({ kind: 'mark', id: id + 1, lightly: true })
    // What the service says of older marks does not put an end to it.
    expect(marks.ahead()).toBe(true)
    preview.value = { figures: { marked: 3 }, layers: [] }
    await nextTick()
    onmessage({ data: { id: id + 1, flags, whole: true } })
    expect(points.markShown).toHaveBeenCalledTimes(2)
    expect(viewer.ask).toHaveBeenCalledTimes(1)
    vi.advanceTimersByTime(100)
    expect(marks.ahead()).toBe(false)
    preview.value = { figures: { marked: 4 }, layers: [] }
    await nextTick()
    expect(postMessage.mock.calls.at(-1)![0]).toEqual({ kind: 'enough' })
  })
  it('is used by an operation, and gone when the object changed', async () => {
    const { marks, bench, view, preview } = opened()
    marks.active.value = true
    marks.hand.done({ shape: 'joined', at: [0, 0, 1] }, false)
    const counted: MarkFigures = { marked: 12, points: 400, area_cm2: 0.5, passes: [] }
    preview.value = { figures: counted }
    await nextTick()
    expect(marks.figures.value.marked).toBe(12)
    await marks.use('set_aside')
    expect(bench.operation.mock.calls[0][0]).toBe('set_aside')
    expect(bench.operation.mock.calls[0][1].marks.strokes[0]).toEqual({
      shape: 'joined',
      at: [0, 0, 1],
      gap_mm: 1,
      crease_deg: 180,
      add: true,
    })
    view.snapshot.value = 's2'
    await nextTick()
    expect(marks.any.value).toBe(false)
  })
  it('leaves the previews of other cards alone', async () => {
    const { marks, live, view } = opened()
    view.snapshot.value = 's2'
    marks.clear()
    await nextTick()
    expect(live.hide).not.toHaveBeenCalled()
  })
  it('closes what is being drawn at Enter before anything goes', () => {
    const { marks, bench } = opened()
    marks.hand.done(box, false)
    let open = true
    marks.closes(() => {
      const was = open
      open = false
      return was
    })
    marks.enter()
    expect(bench.operation).not.toHaveBeenCalled()
    marks.enter()
    expect(bench.operation.mock.calls[0][0]).toBe('take_away')
  })
  it('has keys as long as something is being marked', () => {
    const { marks, context } = opened()
    const actions = markActions(context)
    expect(actions.map((a) => a.key)).toEqual(['-', '=', '/', 'Backspace', 'Shift+Backspace'])
    expect(actions[0].enabled!()).toBe(false)
    marks.active.value = true
    for (const a of actions.slice(0, 3)) a.run()
    expect([marks.adding.value, marks.through.value, marks.invert.value]).toEqual([false, true, true])
    marks.hand.done(box, false)
    actions[3].run()
    expect(marks.strokes.value).toEqual([])
    actions[4].run()
    expect(marks.invert.value).toBe(false)
  })
})

describe('pieces by size', () => {
  it('are bars, of which a click keeps one', async () => {
    const piece = (area_cm2: number, stays: boolean) => ({
      points: 10,
      area_cm2,
      at: [area_cm2, 0, 0],
      stays,
    })
    const pieces = [piece(80, true), piece(0.8, false), piece(0.2, false)]
    const wrapper = mount(PieceBars, { props: { pieces: pieces as never, total: 12 } })
    const bars = wrapper.findAll('button')
    expect(bars.map((b) => b.attributes('aria-pressed'))).toEqual(['true', 'false', 'false'])
    expect(wrapper.text()).toContain('and 9 smaller ones')
    await bars[1].trigger('click')
    expect(wrapper.emitted('keep')![0]).toEqual([pieces[1]])
  })
})
