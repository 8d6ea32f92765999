import * as THREE from 'three'
import { disposeObject } from '@/bench/viewer/dispose'
import type { Layer } from '@/bench/viewer/layers/Layer'

/** A soft shadow on the floor under a surface. */
export class Shadow implements Layer {
  readonly object: THREE.Mesh

  constructor() {
    const material = new THREE.ShaderMaterial({
      transparent: true,
      depthWrite: false,
      vertexShader:
        'varying vec2 at; void main() { at = uv * 2.0 - 1.0; gl_Position = projectionMatrix * modelViewMatrix * vec4(position, 1.0); }',
      fragmentShader:
        'varying vec2 at; void main() { float d = length(at); gl_FragColor = vec4(0.16, 0.13, 0.09, 0.34 * pow(max(1.0 - d, 0.0), 1.6)); }',
    })
    this.object = new THREE.Mesh(new THREE.PlaneGeometry(1, 1), material)
  }
  /** Lay the shadow under a box, or none. */
  lay(box: THREE.Box3 | null) {
    this.object.visible = !!box && !box.isEmpty()
    if (!box || box.isEmpty()) return
    const size = box.getSize(new THREE.Vector3())
    const middle = box.getCenter(new THREE.Vector3())
    this.object.scale.set(size.x * 2.1 + 10, size.y * 2.1 + 10, 1)
    this.object.position.set(middle.x, middle.y, box.min.z - 0.01 * size.z)
  }
  dispose() {
    disposeObject(this.object)
  }
}
