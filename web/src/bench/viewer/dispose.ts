import * as THREE from 'three'

/** Free what an object holds on the graphics card, and all below it: geometry, materials, and their textures. */
export function disposeObject(object: THREE.Object3D) {
  object.traverse((o) => {
    const { geometry, material, userData } = o as THREE.Mesh
    geometry?.dispose()
    for (const m of Array.isArray(material) ? material : material ? [material] : []) disposeMaterial(m)
    for (const value of Object.values(userData)) if (value instanceof THREE.Texture) disposeTexture(value)
  })
}

/** Free a material and its textures; `material.dispose()` alone leaves them. */
export function disposeMaterial(material: THREE.Material) {
  for (const value of Object.values(material)) if (value instanceof THREE.Texture) disposeTexture(value)
  material.dispose()
}

function disposeTexture(texture: THREE.Texture) {
  const image = texture.image as { close?: () => void } | null
  texture.dispose()
  // An image decoded for the texture is held outside of what the collector counts.
  image?.close?.()
}

/** Take children out of a group and free them. */
export function dropFrom(group: THREE.Object3D, which: (o: THREE.Object3D) => boolean = () => true) {
  for (const child of group.children.filter(which)) {
    group.remove(child)
    disposeObject(child)
  }
}
