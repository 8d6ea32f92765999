import * as THREE from 'three'
import { OVER } from '@/bench/viewer/layers/Over'

/** The light of the view: daylight from all around and a sun that can be moved. */
export class Light {
  readonly object = new THREE.Group()
  private readonly sun = new THREE.DirectionalLight(0xffffff, 2.3)
  private at = { azimuth: -0.6, elevation: 0.7 }

  constructor() {
    this.object.add(new THREE.HemisphereLight(0xfffbf0, 0xb8ad98, 1.25), this.sun)
    for (const light of this.object.children) light.layers.enable(OVER)
    this.move(0, 0)
  }
  /** Move the sun by angles (radians). */
  move(azimuth: number, elevation: number) {
    this.at.azimuth += azimuth
    this.at.elevation = THREE.MathUtils.clamp(this.at.elevation + elevation, -0.2, 1.5)
    const flat = Math.cos(this.at.elevation)
    this.sun.position.set(
      Math.sin(this.at.azimuth) * flat,
      -Math.cos(this.at.azimuth) * flat,
      Math.sin(this.at.elevation),
    )
  }
}
