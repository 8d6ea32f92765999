import * as THREE from 'three'
import { dropFrom } from '@/bench/viewer/dispose'
import type { Layer } from '@/bench/viewer/layers/Layer'

/** Surface that would be there: corners in millimetres and triangles of them. */
export interface Patch {
  vertices: Float32Array
  faces: Uint32Array
}

/** Surface that a step would add, in the colour of a mark, before it is there. */
export class Patches implements Layer {
  readonly object = new THREE.Group()

  set({ vertices, faces }: Patch, colour: string) {
    this.clear()
    if (!faces.length) return
    const geometry = new THREE.BufferGeometry()
    geometry.setAttribute('position', new THREE.BufferAttribute(vertices, 3))
    geometry.setIndex(new THREE.BufferAttribute(faces, 1))
    geometry.computeVertexNormals()
    const material = new THREE.MeshStandardMaterial({
      color: colour,
      roughness: 0.9,
      side: THREE.DoubleSide,
      transparent: true,
      opacity: 0.85,
    })
    this.object.add(new THREE.Mesh(geometry, material))
  }
  get empty() {
    return this.object.children.length === 0
  }
  clear() {
    dropFrom(this.object)
  }
  dispose() {
    this.clear()
  }
}
