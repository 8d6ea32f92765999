import * as THREE from 'three'
import { dropFrom } from '@/bench/viewer/dispose'
import type { Layer, ViewStyle } from '@/bench/viewer/layers/Layer'

/** A coarse surface with a level of each of its points: 0 never seen, 255 seen enough. */
export interface Covered {
  vertices: Float32Array
  faces: Uint32Array
  level: Uint8Array
}

/** What a pass would see again and what it would make enough, for each point (0-255), and the colours of both. */
export interface Share {
  shared: Uint8Array
  fresh: Uint8Array
  colours: { shared: string; fresh: string }
}

/** Linear colours of levels (0 never seen, 255 seen enough), along the steps of a scale. */
export function coverageColours(level: Uint8Array, steps: string[]): Float32Array {
  const shades = steps.map((s) => new THREE.Color(s))
  const colours = new Float32Array(level.length * 3)
  const shade = new THREE.Color()
  level.forEach((value, n) => {
    const at = (value / 255) * (shades.length - 1)
    const low = Math.min(Math.floor(at), shades.length - 2)
    shade.copy(shades[low]).lerp(shades[low + 1], at - low)
    shade.toArray(colours, 3 * n)
  })
  return colours
}

/** Paints what a pass would share, and what it would add, over the colours of levels. */
export function paintShare(colours: Float32Array, { shared, fresh, colours: named }: Share) {
  const tints = [new THREE.Color(named.shared), new THREE.Color(named.fresh)]
  const shade = new THREE.Color()
  shared.forEach((_, n) => {
    shade.fromArray(colours, 3 * n)
    ;[shared, fresh].forEach((amount, of) => shade.lerp(tints[of], amount[n] / 255))
    shade.toArray(colours, 3 * n)
  })
}

/** How often, how squarely and from how many sides each place was seen, from sand to ink. */
export class CoverageSurface implements Layer {
  readonly object = new THREE.Group()

  set({ vertices, faces, level }: Covered, steps: string[], share?: Share) {
    this.clear()
    const colours = coverageColours(level, steps)
    if (share) paintShare(colours, share)
    const geometry = new THREE.BufferGeometry()
    geometry.setAttribute('position', new THREE.BufferAttribute(vertices, 3))
    geometry.setAttribute('color', new THREE.BufferAttribute(colours, 3))
    geometry.setIndex(new THREE.BufferAttribute(faces, 1))
    geometry.computeVertexNormals()
    const material = new THREE.MeshStandardMaterial({
      vertexColors: true,
      roughness: 0.95,
      side: THREE.DoubleSide,
    })
    this.object.add(new THREE.Mesh(geometry, material))
  }
  clear() {
    dropFrom(this.object)
  }
  /** The surface as it is painted, for other pictures of it. */
  get shape(): THREE.BufferGeometry | null {
    return (this.object.children[0] as THREE.Mesh | undefined)?.geometry ?? null
  }
  get empty() {
    return this.object.children.length === 0
  }
  style({ mode, looking }: ViewStyle) {
    this.object.visible = mode === 'coverage' && !looking
  }
  measure(box: THREE.Box3) {
    if (this.object.visible && !this.empty) box.expandByObject(this.object, false)
  }
  dispose() {
    this.clear()
  }
}
