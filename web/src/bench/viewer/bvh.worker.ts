import * as THREE from 'three'
import { MeshBVH } from 'three-mesh-bvh'

/** Build the tree of a surface in a thread of its own; positions and indices come as copies and go back with it. */
self.onmessage = ({ data }: MessageEvent<{ id: number; positions: Float32Array; index: Uint32Array }>) => {
  const geometry = new THREE.BufferGeometry()
  geometry.setAttribute('position', new THREE.BufferAttribute(data.positions, 3))
  geometry.setIndex(new THREE.BufferAttribute(data.index, 1))
  const tree = MeshBVH.serialize(new MeshBVH(geometry), { cloneBuffers: false })
  const moved = [...(tree.roots as ArrayBuffer[]), data.positions.buffer, (tree.index as Uint32Array).buffer]
  self.postMessage({ id: data.id, tree, positions: data.positions }, { transfer: moved })
}
