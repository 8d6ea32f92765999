import * as THREE from 'three'
import { mount } from '@vue/test-utils'
import { createPinia, setActivePinia } from 'pinia'
import { beforeEach, describe, expect, it, vi } from 'vitest'
import { nextTick, ref, shallowRef } from 'vue'
import type { BenchContext } from '@/bench/context'
import { AS_LAID, colourLook } from '@/bench/stages/colour/look'
import { photographsOf, pictureOf, type Photograph } from '@/bench/stages/colour/photographs'
import { accuracyOf } from '@/bench/stages/set/accuracy'
import { deviationOf } from '@/bench/stages/set/deviation'
import { lineOf } from '@/bench/stages/deliver/delivering'
import { valueOf } from '@/bench/stages/set/lengths'
import { apart, spots } from '@/bench/stages/set/spots'
import { standing } from '@/bench/stages/set/standing'
import DeviationBars from '@/components/DeviationBars.vue'
import { ScreenLines } from '@/bench/viewer/layers/ScreenLines'
import { Surface } from '@/bench/viewer/layers/Surface'
import { setFigures, setLook, surfaceMaterial } from '@/bench/viewer/layers/surfaceMaterial'

function bench(adjust: typeof AS_LAID | null = null) {
  const surface = {
    shine: vi.fn(),
    lay: vi.fn(),
    colourAt: vi.fn(() => [176, 150, 112]),
    texelAt: vi.fn(() => [0.9, 0.1]),
  }
  const viewer = { surface, adjust: vi.fn(), style: vi.fn() }
  return {
    bench: {
      bench: ref({ adjust, roughness: 0.5, passes: [{ title: 'upright' }] }),
      operation: vi.fn(),
    },
    view: {
      viewer: shallowRef(viewer),
      snapshot: ref('s1'),
      mode: ref('colour'),
      tool: shallowRef(null),
      use: vi.fn(),
    },
  } as unknown as BenchContext & {
    view: { viewer: { value: typeof viewer } }
    bench: { operation: ReturnType<typeof vi.fn>; bench: { value: { adjust: unknown } } }
  }
}

describe('the floor that an object would stand on', () => {
  const square = new Float32Array([-1, -1, 0, 1, -1, 0, 1, 1, 0, -1, 1, 0])
  it('is shown while a card asks for it, tilted by a handle or by steps, and laid anew when it is let go', async () => {
    setActivePinia(createPinia())
    const planes = { set: vi.fn() }
    const live = { preview: shallowRef<unknown>(null), show: vi.fn(), hide: vi.fn() }
    const context = {
      view: { viewer: shallowRef({ planes, ask: vi.fn() }) },
      live,
    } as unknown as BenchContext
    const floor = standing(context)
    floor.tilt('across', 5)
    expect(floor.plane.value, 'nothing is shown yet').toBeNull()
    floor.asked.value = { by: 'auto' }
    await nextTick()
    expect(live.show).toHaveBeenLastCalledWith('stand_up', { by: 'auto' })
    live.preview.value = {
      figures: { up_from: 'foot', tilted_deg: 0, size_mm: [2, 2, 5] },
      layers: [{ kind: 'plane', pass: '', plane: [0, 0, 1, 0], arrays: { corners: square } }],
    }
    await nextTick()
    expect(planes.set.mock.lastCall![0]).toEqual([{ name: 'floor', corners: square, chosen: true }])
    floor.drag('across', 10, false)
    await nextTick()
    expect(floor.plane.value).toBeNull()
    expect(planes.set.mock.lastCall![0][0].corners).not.toEqual(square)
    floor.drag('across', 30, true)
    expect(floor.plane.value![2]).toBeCloseTo(Math.cos(Math.PI / 6), 5)
    floor.drag('push', 4, true)
    expect(floor.plane.value![2], 'pushing tilts nothing').toBeCloseTo(Math.cos(Math.PI / 6), 5)
    floor.tilt('along', -1)
    expect(floor.plane.value![2]).toBeCloseTo(Math.cos(Math.PI / 180), 5)
    floor.asked.value = null
    await nextTick()
    expect(live.hide).toHaveBeenCalledWith('stand_up')
    expect(planes.set.mock.lastCall![0]).toEqual([])
    expect(floor.told.value).toBeUndefined()
  })
})

describe('the look of a colour', () => {
  it('is as it is kept, and as a hand tries it while the card is open', async () => {
    const context = bench({ ...AS_LAID, light: 0.2 })
    const { viewer } = context.view
    const look = colourLook(context)
    expect(viewer.value.adjust).toHaveBeenLastCalledWith({ ...AS_LAID, light: 0.2, curtain: null })
    expect(viewer.value.surface.shine).toHaveBeenLastCalledWith(0.5)
    look.begin()
    expect(look.changed.value).toBe(false)
    look.values.warmth = 0.3
    look.curtain.value = 0.4
    await nextTick()
    expect(viewer.value.adjust).toHaveBeenLastCalledWith({
      ...AS_LAID,
      light: 0.2,
      warmth: 0.3,
      curtain: 0.4,
    })
    expect(look.changed.value).toBe(true)
    look.end()
    await nextTick()
    expect(viewer.value.adjust).toHaveBeenLastCalledWith({ ...AS_LAID, light: 0.2, curtain: null })
  })
  it('is plain when nothing is adjusted', () => {
    const context = bench()
    colourLook(context)
    expect(context.view.viewer.value.adjust).toHaveBeenLastCalledWith(null)
  })
  it('takes white from a click and keeps it as a colour', () => {
    const context = bench()
    const look = colourLook(context)
    expect(look.grey({} as never)).toBe(true)
    expect(look.values.white).toEqual([176, 150, 112])
    void look.keep()
    expect(context.bench.operation).toHaveBeenCalledWith('adjust_colour', { ...AS_LAID, white: '#b09670' })
  })
  it('goes to the shader, with the curtain in pixels', () => {
    const part = new THREE.Mesh(new THREE.PlaneGeometry(1, 1), surfaceMaterial())
    const { uniforms } = part.material.userData
    setLook(part, { ...AS_LAID, white: [255, 0, 0], light: 0.1, gamma: 2, curtain: 0.25 }, 800)
    expect(uniforms.adjusting.value).toBe(1)
    expect(uniforms.curtain.value).toBe(200)
    expect(uniforms.whiteSeen.value.toArray()).toEqual([1, 0, 0, 1])
    expect(uniforms.toneSecond.value.w).toBe(2)
    setLook(part, null, 800)
    expect(uniforms.adjusting.value).toBe(0)
  })
})

describe('photographs of a surface', () => {
  const told = {
    side: 2,
    photographs: [
      ['upright', 0],
      ['upright', 1],
    ] as Photograph[],
    photo: new Uint16Array([1, 2, 0, 2]),
    unseen: new Uint8Array([0, 0, 1, 0]),
  }
  it('are told apart by shade, with borders between them and what nothing saw', () => {
    const texels = (layout: 'photographs' | 'borders' | 'unseen') =>
      [...(pictureOf(told, layout, ['upright']).image.data as Uint8Array)].join().match(/\d+,\d+,\d+,255/g)!
    const [first, second, none, same] = texels('photographs')
    expect(first).not.toBe(second)
    expect(second).toBe(same)
    expect(none).not.toBe(first)
    const borders = texels('borders')
    expect(borders[0]).not.toBe(borders[1])
    expect(new Set([borders[1], borders[2], borders[3]]).size).toBe(1)
    const unseen = texels('unseen')
    expect(new Set([unseen[0], unseen[1], unseen[3]]).size).toBe(1)
    expect(unseen[2]).not.toBe(unseen[0])
  })
  it('are left out and taken back by one click each', () => {
    const part = photographsOf(bench())
    part.turn(['upright', 3])
    part.turn(['upright', 4])
    expect(part.without.value).toEqual([
      ['upright', 3],
      ['upright', 4],
    ])
    part.turn(['upright', 3])
    expect(part.without.value).toEqual([['upright', 4]])
  })
  it('are found on the texture where a ray meets the surface', () => {
    const surface = new Surface()
    const part = new THREE.Mesh(new THREE.PlaneGeometry(10, 10), surfaceMaterial())
    part.userData = { madeUp: false, map: null }
    surface.show([part as never])
    const ray = new THREE.Ray(new THREE.Vector3(2.5, -2.5, 20), new THREE.Vector3(0, 0, -1))
    const at = surface.texelAt({ ray, pixel: 0.001 })!
    expect(at.map((v) => v.toFixed(3))).toEqual(['0.750', '0.250'])
    expect(
      surface.texelAt({ ray: new THREE.Ray(new THREE.Vector3(9, 9, 20), ray.direction), pixel: 0.001 }),
    ).toBeNull()
  })
})

describe('places that are picked', () => {
  const place = (x: number) => ({ place: [x, 0, 0] }) as never
  it('belong to the card that asks, are as many as it wants, and are forgotten with the surface', async () => {
    const context = bench()
    const part = spots(context)
    part.take(place(1))
    expect(part.shown.value).toEqual([])
    const enter = vi.fn()
    part.ask('scale', enter)
    for (const x of [1, 2, 5]) part.take(place(x))
    expect(part.shown.value.map((p) => p[0])).toEqual([1, 5])
    expect(apart(part.shown.value)).toBe(4)
    part.enter()
    expect(enter).toHaveBeenCalled()
    part.ask('front', enter)
    expect(part.shown.value).toEqual([])
    part.take(place(7))
    part.ask('scale', enter)
    expect(part.shown.value).toHaveLength(2)
    part.stepBack()
    expect(part.shown.value).toHaveLength(1)
    ;(context.view.snapshot as { value: string }).value = 's2'
    await nextTick()
    expect(part.picked.front).toEqual([])
    part.leave()
    expect(part.role.value).toBeNull()
  })
  it('are drawn with their letters above them, and lengths with their figure at the middle', () => {
    const host = document.createElement('div')
    const lines = new ScreenLines(host)
    lines.measures([
      {
        ends: [
          [0, 0],
          [100, 40],
        ],
        words: 'rim 41.30 mm',
      },
      { ends: [[10, 90]], words: 'A' },
    ])
    const texts = [...host.querySelectorAll('text.measure')]
    expect(texts.map((t) => [t.textContent, t.getAttribute('x'), t.getAttribute('y')])).toEqual([
      ['rim 41.30 mm', '50', '24'],
      ['A', '10', '76'],
    ])
    lines.measures([])
    expect(host.querySelectorAll('.measure')).toHaveLength(0)
  })
})

describe('what is said', () => {
  beforeEach(() => setActivePinia(createPinia()))
  it('of a length names its kind by sign and unit', () => {
    const of = (kind: string, value: number) => valueOf({ kind, value } as never)
    expect(of('length', 25.4217)).toBe('25.42\u2009mm')
    expect(of('cylinder', 8)).toBe('⌀ 8.00\u2009mm')
    expect(of('angle', 44.96)).toBe('45.0°')
  })
  it('of a receiver is one line of what it gets', () => {
    expect(lineOf({ format: 'stl', unit: 'in', up: 'y', triangles: 200000, measured_only: true })).toBe(
      'STL · in · Y up · at most 200\u2009000 triangles · nothing made up',
    )
    expect(lineOf({ format: 'both', steps: true })).toBe('HTML and PDF · every step')
    expect(lineOf({ turning: true, moving: false, still: true, triangles: 0 })).toBe(
      'turning page · still · all triangles',
    )
  })
})

describe('accuracy', () => {
  it('is told as long as it is the newest step, and is asked for only then', async () => {
    const context = bench() as unknown as { bench: { bench: { value: Record<string, unknown> } } }
    const report = { half_mm: 0.012, range_mm: 0.06 }
    context.bench.bench.value = { steps: [{ operation: 'accuracy', report, undone: false }] }
    const part = accuracyOf(context as never)
    expect(part.told.value).toEqual(report)
    context.bench.bench.value = { steps: [{ operation: 'simplify', report: {}, undone: false }] }
    expect(part.told.value).toBeNull()
    await part.show()
    expect(part.shown.value).toBe(false)
  })
})

describe('a deviation', () => {
  const report = { against: 'Take A', tolerance_mm: 0.1, range_mm: 0.4, bins: [0.1, 0.4, 0.4, 0.1] }
  it('is told as long as it is the newest step, and may be held against takes and placed passes', () => {
    const context = bench() as unknown as { bench: { bench: { value: Record<string, unknown> } } }
    context.bench.bench.value = {
      takes: [{ name: 'Take A' }],
      passes: [
        { title: 'upright', placed: true, off: false },
        { title: 'lost', placed: false, off: false },
        { title: 'away', placed: true, off: true },
      ],
      steps: [
        { operation: 'deviation', report, undone: false },
        { operation: 'smooth', report: {}, undone: true },
      ],
    }
    const part = deviationOf(context as never)
    expect(part.against.value).toEqual(['Take A', 'upright'])
    expect(part.told.value).toEqual(report)
    context.bench.bench.value = {
      ...context.bench.bench.value,
      steps: [{ operation: 'smooth', undone: false }],
    }
    expect(part.told.value).toBeNull()
  })
  it('has bars of both sides, and of what lies within the band', () => {
    const bars = mount(DeviationBars, { props: { bins: report.bins, range: 0.4, band: 0.1 } })
    expect(bars.findAll('i').map((i) => i.classes()[0])).toEqual(['inside', 'within', 'within', 'outside'])
    expect(bars.text()).toContain('0.40')
  })
  it('has bars from nothing on, all of one kind, where they tell sizes', () => {
    const bars = mount(DeviationBars, {
      props: { bins: [0.5, 0.3, 0.2], range: 0.06, band: 0, oneSided: true },
    })
    expect(bars.findAll('i').map((i) => i.classes()[0])).toEqual(['outside', 'outside', 'outside'])
    expect(bars.text()).toBe('0± 0.060\u2009mm')
  })
  it('gives the surface a colour for each side', () => {
    const part = new THREE.Mesh(new THREE.PlaneGeometry(1, 1), surfaceMaterial())
    const { uniforms } = part.material.userData
    setFigures(part, new Float32Array(4), { range: 0.4, thin: false, band: 0.1 })
    expect([uniforms.band.value, uniforms.figured.value]).toEqual([0.1, 1])
    setFigures(part, null, { range: 1, thin: false })
    expect([uniforms.band.value, uniforms.figured.value]).toEqual([-1, 0])
  })
})
