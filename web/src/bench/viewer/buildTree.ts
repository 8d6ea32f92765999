import * as THREE from 'three'
import { MeshBVH, type SerializedBVH } from 'three-mesh-bvh'

interface Built {
  id: number
  tree: SerializedBVH
  positions: Float32Array
}

/** Builds trees of surfaces in a worker, so that drawing never waits for one. */
export class TreeBuilder {
  private worker: Worker | null = null
  private asked = 0
  private readonly waiting = new Map<number, (built: Built) => void>()

  /** The tree of a geometry, in its own coordinates; null when it has no triangles. */
  build = async (geometry: THREE.BufferGeometry): Promise<MeshBVH | null> => {
    const position = geometry.getAttribute('position')
    if (!geometry.index || !position.count) return null
    const id = ++this.asked
    const positions = new Float32Array(position.count * 3)
    for (let n = 0; n < position.count; n++)
      positions.set([position.getX(n), position.getY(n), position.getZ(n)], 3 * n)
    const index = new Uint32Array(geometry.index.array)
    const built = await new Promise<Built>((resolve) => {
      this.waiting.set(id, resolve)
      this.thread.postMessage({ id, positions, index }, [positions.buffer, index.buffer])
    })
    // The tree orders the triangles anew, so it is asked on a geometry of its own.
    const own = new THREE.BufferGeometry()
    own.setAttribute('position', new THREE.BufferAttribute(built.positions, 3))
    return MeshBVH.deserialize(built.tree, own)
  }
  dispose() {
    this.worker?.terminate()
    this.waiting.clear()
  }
  private get thread(): Worker {
    if (!this.worker) {
      this.worker = new Worker(new URL('./bvh.worker.ts', import.meta.url), { type: 'module' })
      this.worker.onmessage = ({ data }: MessageEvent<Built>) => {
        this.waiting.get(data.id)?.(data)
        this.waiting.delete(data.id)
      }
    }
    return this.worker
  }
}
