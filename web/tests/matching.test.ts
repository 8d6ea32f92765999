import * as THREE from 'three'
import { describe, expect, it, vi } from 'vitest'
import { nextTick, ref, shallowRef } from 'vue'
import type { BenchContext } from '@/bench/context'
import { inFrameOf, letterOf, matching } from '@/bench/stages/align/matching'
import { useThreads } from '@/bench/useThreads'
import type { ViewState } from '@/bench/viewer/camera'
import type { Place } from '@/bench/viewer/layers/Layer'
import { PassPoints } from '@/bench/viewer/layers/PassPoints'
import { ScreenLines } from '@/bench/viewer/layers/ScreenLines'
import { packedPoints } from './packed'

const AWAY = [
  [0, -1, 0, 10],
  [1, 0, 0, 20],
  [0, 0, 1, 30],
  [0, 0, 0, 1],
]
const spot = (pass: number, ...place: [number, number, number]) => ({ pass, place }) as Place

function opened() {
  const preview = shallowRef<unknown>(null)
  const live = { preview, refused: ref(''), show: vi.fn(), hide: vi.fn() }
  const passes = [
    { title: 'upright', placed: true },
    { title: 'tipped', placed: false, T_object_pass: AWAY },
    { title: 'third', placed: true },
  ]
  const bench = { bench: ref({ passes }), operation: vi.fn(), busy: ref(false) }
  const view = { snapshot: ref('s1'), viewer: shallowRef<unknown>() }
  const context = { bench, view, live } as unknown as BenchContext
  const part = matching(context)
  return {
    part,
    live,
    bench,
    view,
    preview,
    context: { ...context, part: () => part } as unknown as BenchContext,
  }
}

describe('spots tied across two sides', () => {
  it('make threads whichever side comes first, in the frame of the pass that is placed', async () => {
    const { part, live } = opened()
    expect(part.title.value).toBe('tipped')
    part.active.value = true
    part.take(spot(0, 1, 2, 3))
    part.take(spot(1, 10, 21, 30))
    part.take(null)
    part.take(spot(1, 10, 20, 35))
    part.take(spot(2, 4, 5, 6))
    part.take(spot(0, 7, 8, 9))
    await nextTick()
    expect(part.threads.value.map((t) => !!t.fixed && !!t.moving)).toEqual([true, true, false])
    // By hand: the motion turns x to y and shifts by (10, 20, 30).
    expect(live.show.mock.calls.at(-1)).toEqual([
      'match_points',
      {
        pass: 'tipped',
        pairs: [
          { fixed: [1, 2, 3], moving: [1, 0, 0] },
          { fixed: [4, 5, 6], moving: [0, 0, 5] },
        ],
      },
    ])
    expect(inFrameOf(undefined, [1, 2, 3])).toEqual([1, 2, 3])
    part.untie(0)
    expect(part.tied.value).toHaveLength(1)
    expect([0, 25, 26].map(letterOf)).toEqual(['A', 'Z', 'A'])
  })
  it('are judged thread by thread, loose ends apart', async () => {
    const { part, preview } = opened()
    part.take(spot(0, 1, 2, 3))
    part.take(spot(1, 1, 1, 1))
    part.take(spot(0, 3, 3, 3))
    preview.value = { figures: { threads: [{ picked_mm: 1.5, used: false }], missing: '' } }
    await nextTick()
    expect(part.judged.value).toEqual([{ picked_mm: 1.5, used: false }, null])
  })
  it('are offered the likely counterpart once they say how the sides lie, and are moved', async () => {
    const { part, preview } = opened()
    part.active.value = true
    part.take(spot(0, 1, 2, 3))
    expect([part.offered.value, part.takeOffered()]).toEqual([null, false])
    // By hand: the pass would lie shifted by (1, 0, 0) in the object; now it is turned x to y and shifted by (10, 20, 30).
    const shifted = [[1, 0, 0, 1], [0, 1, 0, 0], [0, 0, 1, 0], [0, 0, 0, 1]] // prettier-ignore
    preview.value = { figures: { threads: [], missing: '', T_object_pass: shifted, overlap: 0.8 } }
    await nextTick()
    expect(part.offered.value).toEqual({ thread: 0, side: 'moving', spot: [8, 20, 33] })
    expect(part.takeOffered()).toBe(true)
    expect(part.threads.value).toEqual([{ fixed: [1, 2, 3], moving: [8, 20, 33] }])
    part.take(spot(1, 8, 20, 33))
    expect(part.offered.value).toEqual({ thread: 1, side: 'fixed', spot: [1, 2, 3] })
    part.moveEnd(0, 'fixed', spot(2, 4, 4, 4))
    part.moveEnd(0, 'moving', spot(2, 9, 9, 9))
    part.moveEnd(0, 'moving', null)
    expect(part.threads.value[0]).toEqual({ fixed: [4, 4, 4], moving: [8, 20, 33] })
  })
  it('go with another pass or another state, and place it when asked', async () => {
    const { part, bench, view } = opened()
    part.take(spot(0, 1, 2, 3))
    await part.use()
    expect(bench.operation).toHaveBeenCalledWith('match_points', { pass: 'tipped', pairs: [] })
    part.wanted.value = 'third'
    await nextTick()
    expect([part.moving.value, part.threads.value.length]).toEqual([2, 0])
    part.take(spot(0, 1, 2, 3))
    view.snapshot.value = 's2'
    await nextTick()
    expect(part.threads.value).toEqual([])
    part.turn(1, 15)
    part.turn(1, 15)
    expect(part.turned.value).toEqual([0, 30, 0])
  })
})

describe('a pass laid elsewhere', () => {
  const points = new PassPoints()
  points.set(
    0,
    packedPoints([
      [0, 0, 0],
      [1000, 0, 0],
    ]),
    '#000',
  )
  points.set(
    1,
    packedPoints([
      [0, 0, 0],
      [0, 1000, 0],
    ]),
    '#fff',
  )

  it('is drawn and picked there, and told where it lies', () => {
    // The sample's points begin at (10, 20, 30) in steps of a hundredth.
    points.lay(1, new THREE.Matrix4().makeTranslation(100, 0, 0))
    const ray = new THREE.Ray(new THREE.Vector3(110, 30, 130), new THREE.Vector3(0, 0, -1))
    const found = points.pick({ ray, pixel: 0.001 })!
    expect(found.pass).toBe(1)
    expect(found.place.map((v) => Math.round(v))).toEqual([10, 30, 30])
    points.lay(1, null)
    expect(points.pick({ ray, pixel: 0.001 })).toBe(null)
  })
  it('is known by the ball round it where it lies', () => {
    points.lay(1, new THREE.Matrix4().makeTranslation(100, 0, 0))
    const own = points.sphere(1)!
    expect(own.center.toArray().map((v) => +v.toFixed(2))).toEqual([10, 25, 30])
    expect(own.radius).toBeCloseTo(5)
    expect(points.sphereOfOthers(1)!.center.x).toBeCloseTo(15)
    expect(points.sphere(7)).toBe(null)
    points.lay(1, null)
  })
})

describe('threads over the view', () => {
  it('run from side to side with letters, and tell those that do not agree', () => {
    const host = document.createElement('div')
    const lines = new ScreenLines(host)
    lines.threads([
      {
        ends: [
          [1, 2],
          [3, 4],
        ],
        letter: 'A',
        off: true,
      },
      { ends: [[5, 6]], letter: 'B', off: false },
    ])
    expect([...host.querySelectorAll('text')].map((t) => t.textContent)).toEqual(['A', 'A', 'B'])
    expect(host.querySelectorAll('.off')).toHaveLength(5)
    lines.threads([])
    expect(host.querySelectorAll('text')).toHaveLength(0)
  })
  it('lay the pass beside the others as long as spots are tied', async () => {
    const { part, view, context } = opened()
    const camera = new THREE.PerspectiveCamera()
    camera.updateMatrixWorld()
    const ball = (x: number, r: number) => new THREE.Sphere(new THREE.Vector3(x, 0, 0), r)
    const viewer = {
      camera,
      ask: vi.fn(),
      frameAll: vi.fn(),
      project: (v: THREE.Vector3) => [v.x, v.y],
      lines: { threads: vi.fn() },
      inset: { show: vi.fn() },
      points: { lay: vi.fn(), sphere: () => ball(3, 10), sphereOfOthers: () => ball(0, 20) },
    }
    view.viewer.value = viewer
    const state = ref<ViewState>({ azimuth: 0, elevation: 0, mmPerPixel: 1 })
    useThreads(context, state)
    part.active.value = true
    part.take(spot(1, 3, 0, 0))
    await nextTick()
    const [pass, motion] = viewer.points.lay.mock.calls.at(-1)!
    expect(pass).toBe(1)
    // The ball's middle comes to 1.08 · (10 + 20) to the right of the others'.
    expect(new THREE.Vector3(3, 0, 0).applyMatrix4(motion).x).toBeCloseTo(32.4)
    expect(viewer.frameAll).toHaveBeenCalled()
    const [thread] = viewer.lines.threads.mock.calls.at(-1)![0]
    expect([thread.letter, thread.off, thread.ends[0].map(Math.round)]).toEqual(['A', false, [32, 0]])
    part.active.value = false
    await nextTick()
    expect(viewer.points.lay.mock.calls.at(-1)).toEqual([1, null])
  })
})
