import * as THREE from 'three'
import type { PassPoints } from '@/bench/viewer/layers/PassPoints'
import { drawInset, INSET } from '@/bench/viewer/inset'
import type { ViewStyle } from '@/bench/viewer/layers/Layer'

/** A small picture of the passes, each in its hue, with one of them where it would lie. */
export class FitInset {
  private fit: { pass: number; motion: THREE.Matrix4 } | null = null
  private readonly eye = new THREE.PerspectiveCamera(30, INSET.width / INSET.height, 1, 20000)

  constructor(private readonly points: PassPoints) {}
  /** Show a pass moved by a motion of the object's frame, or nothing. */
  show(pass: number, motion: THREE.Matrix4 | null) {
    this.fit = motion && { pass, motion }
  }
  /** Draw it over what was drawn, seen from where the large view's camera looks from. */
  render(
    renderer: THREE.WebGLRenderer,
    scene: THREE.Scene,
    camera: THREE.PerspectiveCamera,
    size: [number, number],
    style: ViewStyle,
  ) {
    if (!this.fit) return
    const { pass, motion } = this.fit
    const was = { motion: this.points.laidBy(pass), visible: this.points.object.visible }
    this.points.lay(pass, motion)
    this.points.style({ ...style, mode: 'passes' }, false)
    const round = this.points
      .sphere(pass, motion)
      ?.union(this.points.sphereOfOthers(pass) ?? new THREE.Sphere())
    if (round) {
      const away = round.radius / Math.sin(THREE.MathUtils.degToRad(this.eye.fov / 2))
      this.eye.quaternion.copy(camera.quaternion)
      this.eye.position.set(0, 0, away).applyQuaternion(camera.quaternion).add(round.center)
      this.eye.near = away / 100
      this.eye.far = away * 20
      this.eye.updateProjectionMatrix()
      drawInset(renderer, size, () => renderer.render(scene, this.eye))
    }
    this.points.lay(pass, was.motion)
    this.points.style(style, false)
    this.points.object.visible = was.visible
  }
}
