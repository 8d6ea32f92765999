import * as THREE from 'three'
import { beforeEach, describe, expect, it, vi } from 'vitest'
import { nextTick, ref, shallowRef } from 'vue'
import type { BenchContext } from '@/bench/context'
import { figuresOf, shiftPart } from '@/bench/useShift'
import { slicePart } from '@/bench/useSlice'
import { shownTitles } from '@/bench/useView'
import { PassPoints } from '@/bench/viewer/layers/PassPoints'
import { NO_SHIFT } from '@/bench/viewer/layers/points'
import { pack, packedPoints } from './packed'

const STYLE = { textured: true, wireframe: false, looking: false }
const POINTS = packedPoints([
  [0, 0, 0],
  [5, 5, 5],
])
const uniforms = (layer: PassPoints) =>
  (layer.object.children[0] as THREE.Points<THREE.BufferGeometry, THREE.ShaderMaterial>).material.uniforms
const shiftOf = (layer: PassPoints) => [
  ...((layer.object.children[0] as THREE.Points).geometry.getAttribute('shift').array as Float32Array),
]

function stand() {
  const layer = new PassPoints()
  layer.set(0, POINTS.slice(0), '#111111')
  const view = {
    mode: ref('passes'),
    snapshot: ref('s1'),
    loading: ref(false),
    passUrls: ref<string[]>([]),
    fault: ref(''),
    viewer: shallowRef({
      points: layer,
      ask: vi.fn(),
      alongSight: () => 2,
      reachAlong: (n: THREE.Vector3) => ({ from: -10 * n.x, to: 40 * n.z + 20 * n.x }),
    }),
  }
  const bench = { bench: ref({ passes: [{ title: 'upright' }, { title: 'tipped', off: true }] }) }
  return { layer, view, context: { view, bench } as unknown as BenchContext }
}
beforeEach(() => vi.unstubAllGlobals())

describe('the shift between passes', () => {
  it('is told as what half and nearly all of the points keep to, without those that no other saw', () => {
    const shift = Float32Array.from([...Array(99).keys()].map((n) => (n % 2 ? 1 : -1) * (n + 1) * 0.01))
    const told = figuresOf('upright', Float32Array.from([...shift, NO_SHIFT]))
    expect(told.half).toBeCloseTo(0.5)
    expect(told.most).toBeCloseTo(0.95)
    expect(told.known).toBeCloseTo(0.99)
    expect(figuresOf('alone', Float32Array.from([NO_SHIFT]))).toEqual({
      title: 'alone',
      half: 0,
      most: 0,
      known: 0,
    })
  })
  it('is fetched for the passes that are on when it is asked for, and again for points that came anew', async () => {
    const { layer, view, context } = stand()
    const digest = layer.data(0)!.digest
    const answer = pack({ digest }, { shift: Float32Array.from([-0.2, 0.1]) })
    const asked: string[] = []
    const fetched = vi.fn((url: string) => {
      asked.push(url)
      return Promise.resolve({ ok: true, arrayBuffer: async () => answer.slice(0) })
    })
    vi.stubGlobal('fetch', fetched)
    const part = shiftPart(context)
    expect(shiftOf(layer)).toEqual([NO_SHIFT, NO_SHIFT])
    view.mode.value = 'shift'
    await vi.waitFor(() => expect(part.told.value).toHaveLength(1))
    expect(asked).toEqual(['/api/snapshots/s1/passes/0/shift'])
    expect(shiftOf(layer).map((v) => Math.round(v * 10) / 10)).toEqual([-0.2, 0.1])
    expect(part.range.value).toBeCloseTo(0.2)
    expect(uniforms(layer).range.value).toBeCloseTo(0.2)
    view.loading.value = true
    await nextTick()
    view.loading.value = false
    await vi.waitFor(() => expect(fetched).toHaveBeenCalledTimes(2))
  })
  it('of other points than those shown is not believed', () => {
    const { layer } = stand()
    layer.setShift(0, 'another', Float32Array.from([1, 1]))
    expect(shiftOf(layer)).toEqual([NO_SHIFT, NO_SHIFT])
  })
})

describe('a slice', () => {
  it('begins across the axis that one looks along, and stays inside of the object', async () => {
    const { layer, view, context } = stand()
    const part = slicePart(context)
    view.mode.value = 'slice'
    await nextTick()
    await nextTick()
    expect([part.axis.value, part.at.value]).toEqual(['z', 20])
    expect(uniforms(layer).cut.value.toArray()).toEqual([0, 0, 1, 20])
    part.move(5)
    expect(part.at.value).toBeCloseTo(21)
    part.move(10_000)
    expect(part.at.value).toBe(40)
    part.across('x')
    expect([part.reach.value.from, part.reach.value.to, part.at.value]).toEqual([-10, 20, 5])
  })
  it('shows points as a cut, shift as colours, in every other mode neither', () => {
    const { layer } = stand()
    const looks = (mode: 'slice' | 'shift' | 'passes') => {
      layer.style({ ...STYLE, mode }, true)
      return [layer.object.visible, uniforms(layer).slicing.value, uniforms(layer).shifting.value]
    }
    expect(looks('slice')).toEqual([true, 1, 0])
    expect(looks('shift')).toEqual([true, 0, 1])
    expect(looks('passes')).toEqual([true, 0, 0])
  })
})

describe('passes that are off', () => {
  it('are not named where those that are shown are', () => {
    const passes = [{ title: 'a' }, { title: 'b', off: true }, { title: 'c' }]
    expect(shownTitles(passes, [])).toBeNull()
    expect(shownTitles(passes, [true])).toEqual(['c'])
  })
})
