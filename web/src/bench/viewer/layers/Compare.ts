import * as THREE from 'three'
import type { BuildTree } from '@/bench/viewer/layers/Surface'
import { Surface } from '@/bench/viewer/layers/Surface'
import type { Layer, Place, Sight, ViewStyle } from '@/bench/viewer/layers/Layer'

/** Two takes beside each other, one behind the other with a curtain between them, or the left one alone. */
export type CompareHow = 'sides' | 'curtain' | 'apart'

/** Two surfaces seen by one camera. */
export class Compare implements Layer {
  readonly object = new THREE.Group()
  readonly left: Surface
  readonly right: Surface
  how: CompareHow | null = null
  /** Where the curtain hangs, as a share of the width. */
  at = 0.5

  constructor(buildTree?: BuildTree) {
    this.left = new Surface(buildTree)
    this.right = new Surface(buildTree)
    this.object.add(this.left.object, this.right.object)
    this.object.visible = false
  }
  style(style: ViewStyle) {
    this.object.visible = !!style.comparing && !style.looking
    // Whatever else the view would show, takes are looked at as surfaces.
    const own: ViewStyle = { ...style, comparing: false, mode: style.mode === 'colour' ? 'colour' : 'shape' }
    for (const side of [this.left, this.right]) side.style(own)
  }
  pick(sight: Sight): (Place & { distance: number }) | null {
    return this.object.visible ? this.left.pick(sight) : null
  }
  measure(box: THREE.Box3) {
    if (!this.object.visible) return
    for (const side of [this.left, this.right]) side.measure(box)
  }
  /** Draw a scene with the left take in one part of the picture and the right one in the other. */
  render(
    renderer: THREE.WebGLRenderer,
    scene: THREE.Scene,
    camera: THREE.PerspectiveCamera,
    [width, height]: [number, number],
  ) {
    if (this.how === 'apart') return this.only(this.left, () => renderer.render(scene, camera))
    const split = Math.round(width * (this.how === 'sides' ? 0.5 : this.at))
    const whole = camera.aspect
    renderer.setScissorTest(true)
    const parts: [Surface, number, number][] = [
      [this.left, 0, split],
      [this.right, split, width - split],
    ]
    for (const [side, from, wide] of parts) {
      if (wide < 1) continue
      if (this.how === 'sides') {
        renderer.setViewport(from, 0, wide, height)
        camera.aspect = wide / height
        camera.updateProjectionMatrix()
      }
      renderer.setScissor(from, 0, wide, height)
      this.only(side, () => renderer.render(scene, camera))
    }
    renderer.setScissorTest(false)
    renderer.setViewport(0, 0, width, height)
    camera.aspect = whole
    camera.updateProjectionMatrix()
  }
  clear() {
    this.left.clear()
    this.right.clear()
  }
  dispose() {
    this.clear()
  }
  private only(side: Surface, draw: () => void) {
    const shown = [this.left, this.right].map((s) => s.object.visible)
    for (const s of [this.left, this.right]) s.object.visible = s === side
    draw()
    this.left.object.visible = shown[0]
    this.right.object.visible = shown[1]
  }
}
