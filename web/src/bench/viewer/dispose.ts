import * as THREE from 'three'

/** Free what an object holds on the graphics card, and all below it: geometry, materials, and their textures. */
export function disposeObject(object: THREE.Object3D) {
  const textures = new Set<THREE.Texture>()
  object.traverse((o) => {
    const { geometry, material, userData } = o as THREE.Mesh
    geometry?.dispose()
    for (const m of Array.isArray(material) ? material : material ? [material] : []) {
      texturesOf(m).forEach((t) => textures.add(t))
      m.dispose()
    }
    texturesOf(userData).forEach((t) => textures.add(t))
  })
  textures.forEach(disposeTexture)
}

/** The textures that a material or a set of data holds; `material.dispose()` alone leaves them. */
function texturesOf(holder: object): THREE.Texture[] {
  return Object.values(holder).filter((value): value is THREE.Texture => value instanceof THREE.Texture)
}

function disposeTexture(texture: THREE.Texture) {
  const image = texture.image as { close?: () => void } | null
  texture.dispose()
  // An image decoded for the texture is held outside of what the collector counts.
  image?.close?.()
}

/** Take children out of a group and free their shapes; their materials are kept by who uses them again. */
export function dropShapes(group: THREE.Object3D) {
  group.traverse((o) => (o as THREE.Mesh).geometry?.dispose())
  group.clear()
}

/** Take children out of a group and free them. */
export function dropFrom(group: THREE.Object3D, which: (o: THREE.Object3D) => boolean = () => true) {
  for (const child of group.children.filter(which)) {
    group.remove(child)
    disposeObject(child)
  }
}
