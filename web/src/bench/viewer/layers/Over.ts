import * as THREE from 'three'
import { flagged } from '@/lib/packed'

/** What is drawn over a picture that stands, and the light it is drawn by. */
export const OVER = 7
/** From which share of its triangles on a part is drawn anew as a whole. */
const MOST = 0.3

/** The triangles of a part whose marks changed: drawn over what stands, the picture is as if all were drawn anew. */
export class Over {
  readonly object: THREE.Mesh
  private readonly index: THREE.BufferAttribute
  private count = 0

  constructor(private readonly part: THREE.Mesh<THREE.BufferGeometry>) {
    const geometry = new THREE.BufferGeometry()
    this.index = new THREE.BufferAttribute(new Uint32Array(part.geometry.index!.count), 1)
    geometry.setIndex(this.index)
    this.object = new THREE.Mesh(geometry, part.material)
    this.object.layers.set(OVER)
    this.object.frustumCulled = false
    this.object.position.copy(part.position)
    this.object.quaternion.copy(part.quaternion)
    this.object.scale.copy(part.scale)
  }
  /** Add the triangles with a corner among those that packed flags name. */
  add(changed: Uint8Array) {
    const corners = this.part.geometry.index!.array
    const into = this.index.array as Uint32Array
    for (let n = 0; n < corners.length && this.count < into.length; n += 3) {
      const [a, b, c] = [corners[n], corners[n + 1], corners[n + 2]]
      if (!flagged(changed, a) && !flagged(changed, b) && !flagged(changed, c)) continue
      into[this.count++] = a
      into[this.count++] = b
      into[this.count++] = c
    }
  }
  /** Make ready to be drawn; false when there is so much that all of it is to be drawn. */
  ready(): boolean {
    if (this.count > MOST * this.index.count) return false
    const { geometry } = this.object
    geometry.attributes = { ...this.part.geometry.attributes }
    geometry.setDrawRange(0, this.count)
    this.index.clearUpdateRanges()
    this.index.addUpdateRange(0, this.count)
    this.index.needsUpdate = this.count > 0
    return true
  }
  /** It was drawn. */
  clear() {
    this.count = 0
  }
  dispose() {
    // What it shares with its part is freed with that.
    this.object.geometry.attributes = {}
    this.object.geometry.dispose()
  }
}
