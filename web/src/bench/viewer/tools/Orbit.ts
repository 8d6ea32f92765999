import * as THREE from 'three'
import { OrbitControls } from 'three/examples/jsm/controls/OrbitControls.js'

/**
 * Turning, shifting and coming nearer: left drag turns, right drag shifts, the wheel comes nearer at the pointer, two
 * fingers do both. While a tool takes the left button, the right one turns; with Space held all is as without a tool.
 */
export class Orbit {
  readonly controls: OrbitControls

  constructor(camera: THREE.PerspectiveCamera, element: HTMLElement, onMove: () => void) {
    this.controls = new OrbitControls(camera, element)
    this.controls.zoomToCursor = true
    this.controls.addEventListener('change', onMove)
  }
  /** Leave the left button to a tool, or take it back. */
  yieldLeft(toTool: boolean) {
    const { LEFT, RIGHT } = toTool
      ? { LEFT: null, RIGHT: THREE.MOUSE.ROTATE }
      : { LEFT: THREE.MOUSE.ROTATE, RIGHT: THREE.MOUSE.PAN }
    Object.assign(this.controls.mouseButtons, { LEFT, RIGHT })
  }
  dispose() {
    this.controls.dispose()
  }
}
