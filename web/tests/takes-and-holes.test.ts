import * as THREE from 'three'
import { describe, expect, it, vi } from 'vitest'
import { ref, shallowRef, nextTick } from 'vue'
import type { BenchContext } from '@/bench/context'
import { apartOf, takesPart } from '@/bench/stages/fuse/takes'
import { countAt, meanAt, readOff, type CurvePoint } from '@/bench/stages/mend/curve'
import { holesPart } from '@/bench/stages/mend/holes'
import { Compare } from '@/bench/viewer/layers/Compare'
import { Patches } from '@/bench/viewer/layers/Patches'
import { Rims } from '@/bench/viewer/layers/Rims'
import { Over } from '@/bench/viewer/layers/Over'
import { setFigures, setMarks, surfaceMaterial, usualMost } from '@/bench/viewer/layers/surfaceMaterial'
import { TakeRims } from '@/bench/viewer/tools/TakeRims'
import type { ToolView } from '@/bench/viewer/tools/Tool'

const curve: CurvePoint[] = [4096, 1024, 256, 64].map((triangles) => ({
  triangles,
  mean_mm: triangles === 4096 ? 0 : 16 / triangles,
  p95_mm: triangles === 4096 ? 0 : 32 / triangles,
  max_mm: triangles === 4096 ? 0 : 64 / triangles,
}))

describe('the curve of a reduction', () => {
  it('is a power between its points, and a line where nothing moves at its end', () => {
    expect(readOff(curve, 512).mean_mm).toBeCloseTo(16 / 512, 9)
    expect(readOff(curve, 512).max_mm).toBeCloseTo(64 / 512, 9)
    expect(readOff(curve, 2560).p95_mm).toBeCloseTo(32 / 1024 / 2, 9)
    expect(readOff(curve, 9999).mean_mm).toBe(0)
    expect(readOff(curve, 1).mean_mm).toBe(16 / 64)
  })
  it('gives the count that a distance asks for', () => {
    for (const count of [80, 300, 900]) expect(countAt(curve, meanAt(curve, count))).toBeCloseTo(count, -1)
    expect(countAt(curve, 0)).toBe(4096)
  })
})

describe('how far takes lie apart', () => {
  it('is counted by distance, whichever side it lies on', () => {
    const { bins, most, mean } = apartOf(new Float32Array([0.1, -0.1, 0.1, -0.1]))
    expect([most, mean].map((v) => v.toFixed(3))).toEqual(['0.100', '0.100'])
    expect(bins.reduce((a, b) => a + b)).toBeCloseTo(1)
    expect(bins[bins.length - 1]).toBeCloseTo(1)
  })
  it('leaves out what is not known', () => {
    expect(usualMost(new Float32Array([-1e6, 0.5, -0.5]))).toBeCloseTo(0.5)
    expect(usualMost(new Float32Array([-1e6]))).toBe(0)
  })
})

describe('two large takes', () => {
  it('come with fewer triangles at first, and whole when that is asked for', async () => {
    const asked: string[] = []
    vi.stubGlobal('fetch', (url: string) => {
      asked.push(url)
      return new Promise(() => {})
    })
    const take = (name: string, triangles: number) => ({ name, triangles })
    const context = {
      bench: { bench: ref({ takes: [take('A', 3e6), take('B', 2e5)], of_take: 'A' }) },
      view: {
        viewer: shallowRef({
          compare: { left: { figures: vi.fn() }, clear: vi.fn() },
          style: vi.fn(),
        }),
        snapshot: ref('s1'),
      },
    } as unknown as BenchContext
    const part = takesPart(context)
    part.begin()
    await nextTick()
    const urls = ['/takes/0', '/takes/1', '/takes/0/off/1'].map((end) => `/api/snapshots/s1${end}`)
    expect([part.large.value, asked]).toEqual([true, urls])
    part.whole.value = true
    await nextTick()
    expect(asked.slice(3)).toEqual(urls.map((url) => `${url}?whole=1`))
    part.stop()
    expect(part.whole.value).toBe(false)
  })
})

const square = (x: number) => [x, 0, 0, x + 1, 0, 0, x + 1, 1, 0, x, 1, 0]
const data = {
  places: new Float32Array([...square(0), ...square(10)]),
  begins: new Uint32Array([0, 4, 8]),
}

describe('rims', () => {
  it('are drawn apart by whether they are taken, each closed', () => {
    const rims = new Rims()
    rims.set(data, [true, false], [], { taken: '#7000b0', left: '#b06000' })
    expect(rims.count).toBe(2)
    const [on, off] = rims.object.children as THREE.LineSegments[]
    expect(on.geometry.attributes.position.count).toBe(8)
    expect((off.material as THREE.LineDashedMaterial).isLineDashedMaterial).toBe(true)
    expect([...on.geometry.attributes.position.array.slice(-3)]).toEqual([0, 0, 0])
    rims.clear()
    expect([rims.count, rims.object.children.length]).toEqual([0, 0])
  })
  it('are taken by a still click near them', () => {
    const rims = new Rims()
    rims.set(data, [true, true], [[0, 0, 0, 1, 1, 0]], { taken: '#000', left: '#000' })
    const turn = vi.fn()
    const view = { project: (p: THREE.Vector3) => [p.x * 10, p.y * 10] } as unknown as ToolView
    const tool = new TakeRims(view, rims, turn)
    const at = (x: number, y: number) => ({ x, y, shift: false })
    tool.down(at(112, 4))
    tool.up(at(112, 4))
    expect(turn).toHaveBeenCalledWith(1, [11, 0, 0])
    tool.down(at(300, 4))
    tool.up(at(300, 4))
    tool.down(at(0, 0))
    tool.up(at(30, 0))
    expect(turn).toHaveBeenCalledOnce()
    rims.dispose()
  })
})

describe('strips across a hole', () => {
  it('are tied by two clicks on one rim, and sent with what stays open', async () => {
    const operation = vi.fn()
    const viewer = { rims: new Rims(), patches: new Patches(), ask: vi.fn() }
    const live = { preview: shallowRef<unknown>(null), refused: ref(''), show: vi.fn(), hide: vi.fn() }
    const context = {
      bench: { bench: ref({ mesh: {} }), doneBy: ref({}), changed: ref(null), operation },
      view: { viewer: shallowRef(viewer), snapshot: ref('s1') },
      live,
    } as unknown as BenchContext
    const part = holesPart(context)
    vi.stubGlobal('fetch', () => new Promise(() => {}))
    part.open.value = true
    await nextTick()
    part.holes.value = [0, 1].map((k) => ({
      length_mm: 4,
      size_mm: 1,
      area_mm2: 1,
      flat: true,
      at: [10 * k, 0, 0],
    }))
    part.taken.value = [true, false]
    part.tie(0, [0, 0, 0])
    part.tie(1, [10, 0, 0])
    expect(part.refused.value).toContain('ends at the hole')
    expect(part.bridges.value).toEqual([])
    part.tie(0, [1, 1, 0])
    expect(part.bridges.value).toEqual([[0, 0, 0, 1, 1, 0]])
    void part.close()
    expect(operation).toHaveBeenCalledWith('patch_holes', {
      how: 'curved',
      bridges: [
        [0, 0, 0],
        [1, 1, 0],
      ],
      leave: [[10, 0, 0]],
    })
    // The patches are shown before they are there, of what is taken just now.
    part.shown.value = true
    await nextTick()
    expect(live.show).toHaveBeenLastCalledWith('patch_holes', operation.mock.calls[0][1])
    live.preview.value = {
      figures: { area_mm2: 16, spanned_flat: 0 },
      layers: [
        { kind: 'patch', arrays: { vertices: new Float32Array(9), faces: new Uint32Array([0, 1, 2]) } },
      ],
    }
    await nextTick()
    expect([viewer.patches.empty, part.told.value?.area_mm2]).toEqual([false, 16])
    part.shown.value = false
    await nextTick()
    expect(live.hide).toHaveBeenLastCalledWith('patch_holes')
    expect([viewer.patches.empty, part.told.value]).toEqual([true, undefined])
    part.under(0.5)
    expect(part.chosen.value).toBe(0)
    part.invert()
    expect(part.chosen.value).toBe(2)
    part.unbridge()
    expect(part.begun.value).toBeNull()
  })
})

describe('a surface', () => {
  const part = () => {
    const geometry = new THREE.BufferGeometry()
    geometry.setAttribute('position', new THREE.BufferAttribute(new Float32Array(9), 3))
    return new THREE.Mesh(geometry, surfaceMaterial())
  }
  it('shows which vertices are marked, and no more', () => {
    const { geometry } = part()
    setMarks(geometry, new Uint8Array([0b101]))
    expect([...geometry.getAttribute('marked').array]).toEqual([1, 0, 1])
    setMarks(geometry, new Uint8Array([0b010]))
    expect([...geometry.getAttribute('marked').array]).toEqual([0, 1, 0])
    expect(setMarks(geometry, new Uint8Array([0b110]))).toEqual(new Uint8Array([0b100]))
    expect(setMarks(geometry, new Uint8Array([0b110]))).toBeNull()
    setMarks(geometry, null)
    expect([...geometry.getAttribute('marked').array]).toEqual([0, 0, 0])
    expect(setMarks(part().geometry, null)).toBeNull()
  })
  it('draws over what stands only the triangles whose marks changed, and all of it when they are many', () => {
    const geometry = new THREE.BufferGeometry()
    geometry.setAttribute('position', new THREE.BufferAttribute(new Float32Array(3 * 12), 3))
    geometry.setIndex(Array.from({ length: 10 }, (_, n) => [n, n + 1, n + 2]).flat())
    const over = new Over(new THREE.Mesh(geometry, surfaceMaterial()))
    const drawn = () => {
      const { index, drawRange } = over.object.geometry
      return [...index!.array.slice(0, drawRange.count)]
    }
    expect(over.ready()).toBe(true)
    expect(drawn()).toEqual([])
    over.add(Uint8Array.of(0b1, 0))
    over.add(Uint8Array.of(0, 0b1000))
    expect(over.ready()).toBe(true)
    expect(drawn()).toEqual([0, 1, 2, 9, 10, 11])
    expect(over.object.geometry.attributes.position).toBe(geometry.attributes.position)
    over.clear()
    over.add(Uint8Array.of(0b11111, 0))
    expect(over.ready()).toBe(false)
    const freed = vi.fn()
    over.object.geometry.addEventListener('dispose', () => freed({ ...over.object.geometry.attributes }))
    over.dispose()
    // What it shares with the part stays on the graphics card.
    expect(freed).toHaveBeenCalledWith({})
  })
  it('shows figures that fit it, and none of another surface', () => {
    const mesh = part()
    const { figured, range } = (mesh.material as THREE.MeshStandardMaterial).userData.uniforms
    setFigures(mesh, new Float32Array([0, 1, 2]), { range: 2, thin: false })
    expect([figured.value, range.value]).toEqual([1, 2])
    setFigures(mesh, new Float32Array(4), { range: 2, thin: false })
    expect(figured.value).toBe(0)
    expect(mesh.geometry.getAttribute('figure')).toBeUndefined()
  })
})

describe('two takes', () => {
  it('are drawn each in its part of the picture, and the camera is as it was', () => {
    const compare = new Compare()
    const camera = new THREE.PerspectiveCamera(30, 2, 1, 100)
    const drawn: string[] = []
    const renderer = {
      render: () =>
        drawn.push(`${compare.left.object.visible}/${compare.right.object.visible} ${camera.aspect}`),
      setScissorTest: vi.fn(),
      setScissor: vi.fn(),
      setViewport: vi.fn(),
    } as unknown as THREE.WebGLRenderer
    const draw = () => compare.render(renderer, new THREE.Scene(), camera, [400, 200])
    compare.how = 'sides'
    draw()
    expect(drawn).toEqual(['true/false 1', 'false/true 1'])
    expect(camera.aspect).toBe(2)
    compare.how = 'curtain'
    compare.at = 1
    draw()
    expect(drawn.slice(2)).toEqual(['true/false 2'])
    expect(renderer.setScissor).toHaveBeenLastCalledWith(0, 0, 400, 200)
    compare.how = 'apart'
    draw()
    expect(drawn[3]).toBe('true/false 2')
    expect(compare.pick({} as never)).toBeNull()
    compare.dispose()
  })
})
