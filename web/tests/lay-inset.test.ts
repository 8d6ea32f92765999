import * as THREE from 'three'
import { describe, expect, it, vi } from 'vitest'
import { LayInset } from '@/bench/viewer/LayInset'
import { CoverageSurface } from '@/bench/viewer/layers/CoverageSurface'

/** A tall box, 20 by 20 by 60 mm, standing on z = 5. */
function tower() {
  const box = new THREE.BoxGeometry(20, 20, 60).translate(100, 0, 35)
  const coverage = new CoverageSurface()
  const count = box.attributes.position.count
  coverage.set(
    {
      vertices: box.attributes.position.array as Float32Array,
      faces: Uint32Array.from(box.index!.array),
      level: new Uint8Array(count),
    },
    ['#000000', '#ffffff'],
  )
  return coverage
}
function drawn(turned: number[], down_deg: number) {
  const inset = new LayInset(tower())
  const scenes: THREE.Scene[] = []
  const renderer = {
    setScissorTest: vi.fn(),
    setScissor: vi.fn(),
    setViewport: vi.fn(),
    clearDepth: vi.fn(),
    autoClear: true,
    render: (scene: THREE.Scene) => scenes.push(scene),
  } as unknown as THREE.WebGLRenderer
  inset.render(renderer, [724, 590])
  expect(scenes).toEqual([])
  inset.show({ turned, down_deg }, { plate: '#888888', head: '#222222' })
  inset.render(renderer, [724, 590])
  expect(renderer.autoClear).toBe(true)
  const [object, plate, head] = scenes[0].children
  const shape = (object as THREE.Mesh).geometry.clone().applyMatrix4(object.matrix)
  shape.computeBoundingBox()
  inset.dispose()
  return {
    size: shape.boundingBox!.getSize(new THREE.Vector3()).toArray(),
    low: shape.boundingBox!.min.z,
    plate,
    head,
  }
}

describe('the picture of how an object lies anew', () => {
  it('stands it on its plate as it is turned, before a head that looks down as told', () => {
    const upright = drawn([1, 0, 0, 0, 1, 0, 0, 0, 1], 24)
    expect(upright.size.map(Math.round)).toEqual([20, 20, 60])
    expect(upright.plate.position.z).toBeCloseTo(upright.low, 4)
    const { x, y, z } = upright.head.position
    expect(x).toBeCloseTo(0)
    expect(THREE.MathUtils.radToDeg(Math.atan2(z, -y))).toBeCloseTo(24, 4)
    // Tipped by 90 degrees about x: what was high lies along y.
    const lying = drawn([1, 0, 0, 0, 0, -1, 0, 1, 0], 55)
    expect(lying.size.map(Math.round)).toEqual([20, 60, 20])
    expect(lying.plate.position.z).toBeCloseTo(lying.low, 4)
  })
})
