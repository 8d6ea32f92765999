import * as THREE from 'three'

/** How large a marker is drawn. */
const DOT_PX = 6

/** Materials of what is drawn anew many times a second, made once: a shader that nothing uses is thrown away and built again. */
export class Inks {
  private readonly made = new Map<string, THREE.Material>()

  points = (color: string) =>
    this.kept(
      `points ${color}`,
      () => new THREE.PointsMaterial({ color, size: DOT_PX, sizeAttenuation: false, depthTest: false }),
    )
  line = (color: string) =>
    this.kept(`line ${color}`, () => new THREE.LineBasicMaterial({ color, depthTest: false }))
  body = (color: string, ghost: boolean) =>
    this.kept(`body ${color} ${ghost}`, () => new THREE.MeshBasicMaterial({ color, wireframe: ghost }))
  dashes(color: string, length: number) {
    const made = this.kept(`dashes ${color}`, () => new THREE.LineDashedMaterial({ color }))
    made.dashSize = made.gapSize = length
    return made
  }
  dispose() {
    this.made.forEach((material) => material.dispose())
    this.made.clear()
  }
  private kept<M extends THREE.Material>(name: string, make: () => M): M {
    if (!this.made.has(name)) this.made.set(name, make())
    return this.made.get(name) as M
  }
}
