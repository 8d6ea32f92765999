import * as THREE from 'three'
import { describe, expect, it, vi } from 'vitest'
import { nextTick, ref, shallowRef } from 'vue'
import type { BenchContext } from '@/bench/context'
import { snapping } from '@/bench/stages/align/snapping'
import { between, matrixOf, rowsOf } from '@/bench/viewer/motions'
import { DragPass } from '@/bench/viewer/tools/DragPass'
import { TieSpots } from '@/bench/viewer/tools/TieSpots'
import type { ToolView } from '@/bench/viewer/tools/Tool'

const at = (x: number, y: number, z: number) => rowsOf(new THREE.Matrix4().makeTranslation(x, y, z))
const places = (m: THREE.Matrix4 | null) => m && new THREE.Vector3().setFromMatrixPosition(m).toArray()

function opened() {
  const preview = shallowRef<unknown>(null)
  const live = { preview, show: vi.fn(), hide: vi.fn() }
  const passes = [
    { title: 'upright', placed: true, T_object_pass: at(0, 0, 0) },
    { title: 'tipped', placed: false, T_object_pass: at(5, 0, 0) },
  ]
  const bench = { bench: ref({ passes }), operation: vi.fn() }
  const view = { snapshot: ref('s1') }
  return { part: snapping({ bench, view, live } as unknown as BenchContext), live, bench, view, preview }
}

describe('a pass that is dragged', () => {
  it('is asked where it would snap to, shown there when it is let go, and snaps from where it was held', async () => {
    const { part, live, bench, preview } = opened()
    part.active.value = true
    await nextTick()
    expect(live.show).toHaveBeenLastCalledWith('snap', { pass: 'tipped', reach_mm: 0 })
    part.hold()
    part.move(new THREE.Matrix4().makeTranslation(0, 3, 0))
    await nextTick()
    const let_go = { pass: 'tipped', reach_mm: 0, at: at(5, 3, 0) }
    expect(live.show).toHaveBeenLastCalledWith('snap', let_go)
    preview.value = { figures: { T_object_pass: at(6, 4, 0), overlap: 0.7, here: 0.2 } }
    await nextTick()
    expect(places(part.shown.value)).toEqual([0, 3, 0])
    part.letGo()
    expect(places(part.shown.value)).toEqual([1, 4, 0])
    part.trust.value = true
    await part.use()
    expect(bench.operation).toHaveBeenCalledWith('snap', { ...let_go, trust: true })
  })
  it('lies where it lay when it is put back, or its state or card goes', async () => {
    const { part, view, live } = opened()
    part.active.value = true
    await nextTick()
    for (const go of [
      () => part.putBack(),
      () => (view.snapshot.value = 's2'),
      () => (part.active.value = false),
    ]) {
      part.move(new THREE.Matrix4().makeTranslation(0, 3, 0))
      go()
      await nextTick()
      expect(part.dragged.value).toBe(null)
    }
    expect([part.shown.value, live.hide.mock.calls.length]).toEqual([null, 1])
  })
  it('is moved between two ways to lie', () => {
    const turn = rowsOf(new THREE.Matrix4().makeRotationZ(Math.PI / 2))
    const motion = between(at(1, 2, 3), turn)
    const place = new THREE.Vector3(2, 2, 3).applyMatrix4(motion)
    expect(place.toArray().map((v) => +v.toFixed(6))).toEqual([0, 1, 0])
    expect(rowsOf(matrixOf(turn))).toEqual(turn)
  })
})

/** A view along −z from (0, 0, 100), one pixel a millimetre in the plane of the origin. */
const camera = new THREE.PerspectiveCamera()
camera.position.set(0, 0, 100)
camera.updateMatrixWorld()
const hit = { pass: 1, place: [0, 0, 0], normal: null, frame: null, pixel: null, distance: 100 }
const toolView = (pick: unknown, knot: unknown = null) =>
  ({
    camera,
    pick: () => pick,
    lines: { knotAt: () => knot },
    sight: (x: number, y: number) => ({
      pixel: 0.001,
      ray: new THREE.Ray(camera.position.clone(), new THREE.Vector3(x, -y, -100).normalize()),
    }),
  }) as unknown as ToolView
const pointer = (x: number, y: number, shift = false) => ({ x, y, shift })

describe('the hand in the view', () => {
  it('drags the pass with the pointer, turns it with Shift about where it was taken, and leaves other drags', () => {
    const dragging = { takes: (p: unknown) => p === hit, hold: vi.fn(), move: vi.fn(), letGo: vi.fn() }
    expect(new DragPass(toolView(null), dragging).down(pointer(0, 0))).toBe(false)
    const tool = new DragPass(toolView(hit), dragging)
    expect(tool.down(pointer(0, 0))).toBe(true)
    tool.move(pointer(7, 2))
    const [by] = dragging.move.mock.calls[0]
    expect(places(by)!.map((v) => +v.toFixed(6))).toEqual([7, -2, 0])
    tool.move(pointer(57, 2, true))
    const [turn] = dragging.move.mock.calls[1]
    // What was taken lies at (7, −2, 0) now and stays there.
    const still = new THREE.Vector3(7, -2, 0).applyMatrix4(turn)
    expect(still.toArray().map((v) => +v.toFixed(6))).toEqual([7, -2, 0])
    expect(new THREE.Vector3(7, -2, 10).applyMatrix4(turn).x).toBeGreaterThan(9)
    tool.up()
    tool.hover(pointer(0, 0))
    expect([dragging.hold.mock.calls.length, dragging.letGo.mock.calls.length, tool.cursor]).toEqual([
      1,
      1,
      'grab',
    ])
  })
  it('drags knots of threads, turns the pass with Shift, and else picks', () => {
    const tying = { picked: vi.fn(), moved: vi.fn(), turned: vi.fn() }
    const knots = new TieSpots(toolView(hit, { thread: 2, end: 1 }), tying)
    expect(knots.down(pointer(5, 5))).toBe(true)
    knots.move(pointer(9, 9))
    knots.up(pointer(9, 9))
    expect(tying.moved).toHaveBeenCalledWith(2, 1, hit)
    expect(tying.picked).not.toHaveBeenCalled()
    // A click on a knot that does not move picks what lies there.
    knots.down(pointer(5, 5))
    knots.move(pointer(6, 5))
    knots.up(pointer(6, 5))
    expect([tying.moved.mock.calls.length, tying.picked.mock.calls.length]).toEqual([1, 1])
    tying.picked.mockClear()
    const tool = new TieSpots(toolView(hit), tying)
    tool.down(pointer(5, 5, true))
    tool.move(pointer(8, 1, true))
    tool.up(pointer(8, 1))
    expect(tying.turned).toHaveBeenCalledWith(3, -4)
    expect(tying.picked).not.toHaveBeenCalled()
    expect(tool.down(pointer(5, 5))).toBe(false)
    tool.up(pointer(5, 5))
    expect(tying.picked).toHaveBeenCalledWith(hit)
  })
})
