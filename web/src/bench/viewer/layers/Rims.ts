import * as THREE from 'three'
import { dropFrom } from '@/bench/viewer/dispose'
import type { Layer } from '@/bench/viewer/layers/Layer'

/** Corners of every rim (mm), end to end, and where each begins. */
export interface RimPlaces {
  places: Float32Array
  begins: Uint32Array
}

/** The rims of holes as lines: those that are to be closed in the colour of a mark, the others dashed. */
export class Rims implements Layer {
  readonly object = new THREE.Group()
  private data: RimPlaces = { places: new Float32Array(), begins: new Uint32Array([0]) }

  get count() {
    return this.data.begins.length - 1
  }
  set(data: RimPlaces, taken: boolean[], bridges: number[][], colours: { taken: string; left: string }) {
    this.clear()
    this.data = data
    for (const on of [true, false]) {
      const ends = this.segments((n) => taken[n] === on, on ? bridges.flat() : [])
      if (!ends.length) continue
      const geometry = new THREE.BufferGeometry()
      geometry.setAttribute('position', new THREE.BufferAttribute(ends, 3))
      const look = { color: on ? colours.taken : colours.left, depthTest: false, transparent: true }
      const material = on
        ? new THREE.LineBasicMaterial({ ...look, linewidth: 2 })
        : new THREE.LineDashedMaterial({ ...look, dashSize: 0.6, gapSize: 0.5 })
      const lines = new THREE.LineSegments(geometry, material)
      if (!on) lines.computeLineDistances()
      lines.renderOrder = 9
      this.object.add(lines)
    }
  }
  clear() {
    dropFrom(this.object)
    this.data = { places: new Float32Array(), begins: new Uint32Array([0]) }
  }
  /** The rim that lies nearest to a pixel, within some of them, and the place where it does. */
  nearest(
    at: [number, number],
    project: (place: THREE.Vector3) => [number, number],
    within: number,
  ): { rim: number; place: number[] } | null {
    let best = within
    let found: { rim: number; place: number[] } | null = null
    const place = new THREE.Vector3()
    for (let rim = 0; rim < this.count; rim++)
      for (let k = this.data.begins[rim]; k < this.data.begins[rim + 1]; k++) {
        const [x, y] = project(place.fromArray(this.data.places, 3 * k))
        const away = Math.hypot(x - at[0], y - at[1])
        if (away >= best) continue
        best = away
        found = { rim, place: place.toArray() }
      }
    return found
  }
  dispose() {
    this.clear()
  }
  private segments(wanted: (rim: number) => boolean, more: number[]): Float32Array {
    const out = [...more]
    const { places, begins } = this.data
    for (let rim = 0; rim < this.count; rim++) {
      if (!wanted(rim)) continue
      const [first, end] = [begins[rim], begins[rim + 1]]
      for (let k = first; k < end; k++) {
        const next = k + 1 < end ? k + 1 : first
        for (const corner of [k, next]) out.push(...places.subarray(3 * corner, 3 * corner + 3))
      }
    }
    return new Float32Array(out)
  }
}
