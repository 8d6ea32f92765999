import * as THREE from 'three'
import { describe, expect, it, vi } from 'vitest'
import { disposeObject, dropFrom } from '@/bench/viewer/dispose'
import { coverageColours, CoverageSurface, paintShare } from '@/bench/viewer/layers/CoverageSurface'
import { PassPoints } from '@/bench/viewer/layers/PassPoints'
import { Paths } from '@/bench/viewer/layers/Paths'
import { frameOf, handlesOf, Planes } from '@/bench/viewer/layers/Planes'
import { nearestPoint, parsePoints, placeOf, pointsObject } from '@/bench/viewer/layers/points'
import { Shadow } from '@/bench/viewer/layers/Shadow'
import { Surface } from '@/bench/viewer/layers/Surface'
import { flagged, unpack } from '@/lib/packed'
import { pack, packedPoints } from './packed'

const INKS = { sheet: '#1d2b3a', chosen: '#1f6f64' }
const STYLE = { mode: 'colour' as const, textured: true, wireframe: false, looking: false }
const marked = (layer: PassPoints) =>
  layer.object.children.map((c) => [
    ...((c as THREE.Points).geometry.getAttribute('marked').array as Uint8Array),
  ])

describe('packed arrays', () => {
  it('come back as they were, whatever their length', () => {
    const arrays = {
      a: new Uint8Array([1, 2, 3]),
      b: new Float32Array([0.5, -2]),
      c: new Uint16Array([65535]),
    }
    const { head, arrays: back } = unpack<{ x: number }>(pack({ x: 7 }, arrays))
    expect(head).toEqual({ x: 7 })
    for (const [name, array] of Object.entries(arrays)) expect([...back[name]]).toEqual([...array])
  })
  it('have flags with the lowest bit first, as NumPy packs them with bitorder="little"', () => {
    const flags = new Uint8Array([0b00000101, 0b10000000])
    expect([0, 1, 2, 3, 15, 14].map((n) => flagged(flags, n))).toEqual([
      true,
      false,
      true,
      false,
      true,
      false,
    ])
  })
})

describe('points', () => {
  it.each([1, 2, 3, 200])('read %i points as they were packed', (count) => {
    const { geometry, data } = parsePoints(
      packedPoints(Array.from({ length: count }, (_, n) => [n, 2 * n, 65535])),
    )
    const [place, normal, colour] = ['position', 'normal', 'colour'].map((n) => geometry.getAttribute(n))
    expect([place.count, normal.count, colour.count]).toEqual([count, count, count])
    const last = count - 1
    expect([place.getX(last), place.getY(last), place.getZ(last)]).toEqual([last, 2 * last, 65535])
    expect(normal.getX(last)).toBeCloseTo(1)
    expect(normal.getY(last)).toBeCloseTo(-1)
    expect([colour.getX(last), colour.getY(last)]).toEqual([1, 0])
    expect(colour.getZ(last)).toBeCloseTo((last & 255) / 255)
    expect([data.frame[last], data.pixel[last]]).toEqual([last, 100_000 + last])
  })
  it('stand in millimetres', () => {
    const points = pointsObject(packedPoints([[1, 2, 3]]), '#336699')
    expect(points.scale.x).toBeCloseTo(0.01)
    expect(points.position.toArray()).toEqual([10, 20, 30])
    expect(placeOf(points.userData.data, 0).map((v) => +v.toFixed(2))).toEqual([10.01, 20.02, 30.03])
  })
  it('may be none at all', () => {
    const layer = new PassPoints()
    layer.set(0, packedPoints([]), '#123456')
    layer.mark(0, 'd1', new Uint8Array())
    const box = new THREE.Box3()
    layer.measure(box)
    expect(box.isEmpty()).toBe(true)
    expect(layer.pick({ ray: new THREE.Ray(), pixel: 0.001 })).toBeNull()
  })
  it('are found under a pointer, the front ones before those behind, none beside or at the back', () => {
    // Seen from −y: two sheets a metre and a bit away, and one point behind the eye.
    const { data } = parsePoints(
      packedPoints([
        [100, 5000, 100],
        [101, 9000, 100],
        [400, 5000, 100],
        [100, 0, 100],
      ]),
    )
    const eye = new THREE.Vector3(11, 25, 31)
    const at = (x: number) => {
      const target = new THREE.Vector3(10 + x / 100, 70, 31)
      return nearestPoint(data, new THREE.Ray(eye, target.sub(eye).normalize()), 0.001).index
    }
    expect(at(100)).toBe(0)
    expect(at(400)).toBe(2)
    expect(at(900)).toBe(-1)
  })
})

describe('the layer of passes', () => {
  it('exchanges a pass and shows the others still', () => {
    const layer = new PassPoints()
    layer.set(0, packedPoints([[1, 1, 1]]), '#111111')
    layer.set(1, packedPoints([[2, 2, 2]]), '#222222')
    layer.set(
      0,
      packedPoints([
        [3, 3, 3],
        [4, 4, 4],
      ]),
      '#111111',
    )
    expect(layer.object.children.map((c) => [c.userData.pass, c.userData.data.count])).toEqual([
      [1, 1],
      [0, 2],
    ])
  })
  it('marks points by flags that were made for them and for no others', () => {
    const layer = new PassPoints()
    layer.set(
      0,
      packedPoints([
        [1, 1, 1],
        [2, 2, 2],
        [3, 3, 3],
      ]),
      '#111111',
    )
    layer.mark(0, 'd1', new Uint8Array([0b101]))
    expect(marked(layer)).toEqual([[1, 0, 1]])
    layer.mark(0, 'another', new Uint8Array([0b010]))
    expect(marked(layer)).toEqual([[0, 0, 0]])
    // Flags that come before their points wait for them.
    layer.mark(1, 'late', new Uint8Array([0b11]))
    layer.set(
      1,
      packedPoints(
        [
          [1, 1, 1],
          [2, 2, 2],
        ],
        { digest: 'late' },
      ),
      '#222222',
    )
    expect(marked(layer)[1]).toEqual([1, 1])
    layer.unmark()
    expect(marked(layer).flat()).toEqual([0, 0, 0, 0, 0])
  })
  it('hides behind a surface unless passes are asked for, and takes their hues there', () => {
    const layer = new PassPoints()
    layer.set(0, packedPoints([[1, 1, 1]]), '#ff0000')
    const uniforms = ((layer.object.children[0] as THREE.Points).material as THREE.ShaderMaterial).uniforms
    layer.style(STYLE, true)
    expect(layer.object.visible).toBe(false)
    layer.style(STYLE, false)
    expect([layer.object.visible, uniforms.ownColour.value]).toEqual([true, 1])
    layer.style({ ...STYLE, mode: 'passes' }, true)
    expect([layer.object.visible, uniforms.ownColour.value, uniforms.hue.value.r]).toEqual([true, 0, 1])
  })
  it('names the pass, frame and pixel of a place', () => {
    const layer = new PassPoints()
    layer.set(3, packedPoints([[100, 5000, 100]]), '#111111')
    const eye = new THREE.Vector3(11, 25, 31)
    const hit = layer.pick({ ray: new THREE.Ray(eye, new THREE.Vector3(0, 1, 0)), pixel: 0.001 })!
    expect([hit.pass, hit.frame, hit.pixel]).toEqual([3, 0, 100_000])
    expect(hit.distance).toBeCloseTo(45)
  })
})

describe('freeing', () => {
  it('frees geometries, materials, their textures and the images of those', () => {
    const image = { close: vi.fn(), width: 4, height: 4 }
    const map = new THREE.Texture(image as never)
    const hidden = new THREE.Texture({ close: vi.fn() } as never)
    const mesh = new THREE.Mesh(new THREE.BoxGeometry(), new THREE.MeshStandardMaterial({ map }))
    mesh.userData = { map: hidden, madeUp: true }
    const freed: string[] = []
    mesh.geometry.addEventListener('dispose', () => freed.push('geometry'))
    mesh.material.addEventListener('dispose', () => freed.push('material'))
    map.addEventListener('dispose', () => freed.push('texture'))
    hidden.addEventListener('dispose', () => freed.push('kept texture'))
    const group = new THREE.Group().add(mesh)
    dropFrom(group)
    expect(group.children).toHaveLength(0)
    expect(freed.sort()).toEqual(['geometry', 'kept texture', 'material', 'texture'])
    expect(image.close).toHaveBeenCalledOnce()
  })
  it('leaves what is not asked for', () => {
    const group = new THREE.Group()
    group.add(new THREE.Mesh(), new THREE.Mesh())
    group.children[0].name = 'stays'
    dropFrom(group, (o) => o.name !== 'stays')
    expect(group.children.map((c) => c.name)).toEqual(['stays'])
    disposeObject(new THREE.Group())
  })
})

describe('the surface', () => {
  const part = () => {
    const mesh = new THREE.Mesh(new THREE.PlaneGeometry(10, 10), new THREE.MeshStandardMaterial())
    mesh.userData = { madeUp: false, map: new THREE.Texture() }
    return mesh
  }
  it('replaces what it showed and frees it, wires too', () => {
    const surface = new Surface()
    const first = part()
    const freed = vi.fn()
    first.geometry.addEventListener('dispose', freed)
    first.userData.map.addEventListener('dispose', freed)
    surface.show([first])
    surface.style({ ...STYLE, wireframe: true })
    const wires = surface.object.children[1]
    expect(wires.children).toHaveLength(1)
    surface.show([part()])
    expect(freed).toHaveBeenCalledTimes(2)
    expect(wires.children).toHaveLength(0)
    surface.dispose()
    expect(surface.empty).toBe(true)
  })
  it('shows its texture only where colour is asked for, and what is made up in another colour', () => {
    const surface = new Surface()
    const shown = part()
    surface.show([shown])
    surface.style(STYLE)
    expect(shown.material.map).toBe(shown.userData.map)
    surface.style({ ...STYLE, mode: 'shape' })
    expect(shown.material.map).toBeNull()
    surface.style({ ...STYLE, mode: 'made-up' })
    const measured = shown.material.color.getHex()
    shown.userData.madeUp = true
    surface.style({ ...STYLE, mode: 'made-up' })
    expect(shown.material.color.getHex()).not.toBe(measured)
    surface.style({ ...STYLE, mode: 'passes' })
    expect(surface.object.visible).toBe(false)
  })
  it('tells the place and the normal under a ray', () => {
    const surface = new Surface()
    const shown = part()
    shown.position.set(0, 0, 5)
    surface.show([shown])
    const hit = surface.pick({
      ray: new THREE.Ray(new THREE.Vector3(1, 2, 20), new THREE.Vector3(0, 0, -1)),
      pixel: 0.001,
    })!
    expect(hit.place.map((v) => Math.round(v))).toEqual([1, 2, 5])
    expect(hit.normal!.map((v) => Math.round(v) + 0)).toEqual([0, 0, 1])
    expect(hit.pass).toBeNull()
  })
})

describe('planes', () => {
  // A square of 100 mm on z = 4, corners as the server gives them: −−, +−, ++, −+.
  const corners = new Float32Array([-50, -50, 4, 50, -50, 4, 50, 50, 4, -50, 50, 4])

  it('have handles that push along their normal and tilt about their sides', () => {
    const [push, along, across] = handlesOf(corners)
    expect([push.kind, along.kind, across.kind]).toEqual(['push', 'along', 'across'])
    for (const handle of [push, along, across])
      expect(handle.normal.toArray().map((v) => +v.toFixed(6))).toEqual([0, 0, 1])
    expect(push.at.x).toBeCloseTo(0)
    expect(push.at.z).toBeGreaterThan(4)
    expect(along.at.toArray().map((v) => +v.toFixed(3))).toEqual([32, 0, 4])
    expect(across.at.toArray().map((v) => +v.toFixed(3))).toEqual([0, 32, 4])
    expect(frameOf(corners).width).toBeCloseTo(100)
  })
  it('show handles for the chosen one alone, at one size on the screen', () => {
    const planes = new Planes()
    planes.set(
      [
        { name: 'a', corners, chosen: false },
        { name: 'b', corners, chosen: true },
      ],
      INKS,
    )
    expect(planes.handles).toHaveLength(3)
    const camera = new THREE.PerspectiveCamera(30, 1)
    const knob = planes.object.children[0].children[1]
    const size = (away: number) => {
      camera.position.copy(knob.position).add(new THREE.Vector3(0, 0, away))
      planes.before(camera, 600)
      return knob.scale.x / away
    }
    expect(size(100)).toBeCloseTo(size(400), 9)
    planes.set([{ name: 'a', corners, chosen: false }], INKS)
    expect(planes.handles).toEqual([])
    planes.dispose()
    expect(planes.object.children).toHaveLength(1)
  })
})

describe('coverage and paths', () => {
  it('shade a surface from sand to ink, and show it in its own mode only', () => {
    const layer = new CoverageSurface()
    const steps = ['#000000', '#808080', '#ffffff']
    const level = new Uint8Array([0, 255, 127])
    layer.set({ vertices: new Float32Array(9), faces: new Uint32Array([0, 1, 2]), level }, steps)
    const mesh = layer.object.children[0] as THREE.Mesh
    const colours = mesh.geometry.getAttribute('color').array
    expect([colours[0], colours[3]]).toEqual([0, 1])
    expect(colours[6]).toBeCloseTo(new THREE.Color('#808080').r, 2)
    layer.style({ ...STYLE, mode: 'coverage' })
    expect(layer.object.visible).toBe(true)
    layer.style({ ...STYLE, mode: 'coverage', looking: true })
    expect(layer.object.visible).toBe(false)
    layer.clear()
    expect(layer.empty).toBe(true)
  })
  it('paint what a pass would share and what it would add over the shades', () => {
    const colours = coverageColours(new Uint8Array([255, 255, 255]), ['#000000', '#ffffff'])
    const named = { shared: '#ff0000', fresh: '#0000ff' }
    paintShare(colours, {
      shared: new Uint8Array([255, 0, 0]),
      fresh: new Uint8Array([0, 255, 0]),
      colours: named,
    })
    expect([...colours]).toEqual([1, 0, 0, 0, 0, 1, 1, 1, 1])
  })
  it('draw a ray for every stop, and an axis for what may slip', () => {
    const layer = new Paths()
    const eyes = new Float32Array([0, -100, 50, 100, 0, 50])
    const slips = [{ kind: 'turn', through: [0, 0, 0], direction: [0, 0, 1] }]
    layer.set({ eyes, middle: [0, 0, 10], taken: 1, slips }, { path: '#111111', slip: '#c98a24' })
    expect(layer.object.children).toHaveLength(3)
    const opacity = (n: number) =>
      ((layer.object.children[n].children[0] as THREE.Line).material as THREE.LineBasicMaterial).opacity
    expect(opacity(0)).toBeGreaterThan(opacity(1))
    const box = new THREE.Box3()
    layer.measure(box)
    expect(box.max.x).toBeGreaterThan(20)
    layer.clear()
    expect(layer.object.children).toHaveLength(0)
  })
})

describe('the shadow', () => {
  it('lies under a box, and nowhere without one', () => {
    const shadow = new Shadow()
    shadow.lay(null)
    expect(shadow.object.visible).toBe(false)
    shadow.lay(new THREE.Box3(new THREE.Vector3(0, 0, 5), new THREE.Vector3(10, 20, 25)))
    expect(shadow.object.position.toArray()).toEqual([5, 10, 4.8])
    shadow.dispose()
  })
})
