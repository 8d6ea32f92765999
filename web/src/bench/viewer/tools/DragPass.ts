import * as THREE from 'three'
import type { Place } from '@/bench/viewer/layers/Layer'
import type { Pointer, Tool, ToolView } from '@/bench/viewer/tools/Tool'

/** What a hand does to the pass that it drags. */
export interface Dragging {
  /** Whether a place under the pointer is of the pass. */
  takes(place: Place | null): boolean
  hold(): void
  /** By a motion of the object's frame, since the last one. */
  move(by: THREE.Matrix4): void
  letGo(): void
}
const TURN_PER_PX = 0.008

/** Drags a pass in the plane of the picture, with Shift turns it about where it was taken. Other drags turn the view. */
export class DragPass implements Tool {
  cursor = 'default'
  readonly takesAll = false
  private last: Pointer | null = null
  private readonly taken = new THREE.Vector3()

  constructor(
    private readonly view: ToolView,
    private readonly dragging: Dragging,
  ) {}
  down(at: Pointer): boolean {
    const place = this.view.pick(at.x, at.y)
    if (!place || !this.dragging.takes(place)) return false
    // Where it is drawn, and not where it lies.
    this.view.sight(at.x, at.y).ray.at(place.distance, this.taken)
    this.last = at
    this.dragging.hold()
    return true
  }
  move(at: Pointer) {
    if (!this.last) return
    this.dragging.move(at.shift ? this.turned(at) : this.shifted(at))
    this.last = at
  }
  up() {
    if (this.last) this.dragging.letGo()
    this.last = null
  }
  hover(at: Pointer) {
    this.cursor = this.dragging.takes(this.view.pick(at.x, at.y)) ? 'grab' : 'default'
  }
  dispose() {
    this.up()
  }
  /** Along the picture, as far as what was taken goes with the pointer. */
  private shifted(at: Pointer): THREE.Matrix4 {
    const forward = this.view.camera.getWorldDirection(new THREE.Vector3())
    const plane = new THREE.Plane().setFromNormalAndCoplanarPoint(forward, this.taken)
    const [from, to] = [this.last!, at].map(({ x, y }) =>
      this.view.sight(x, y).ray.intersectPlane(plane, new THREE.Vector3()),
    )
    if (!from || !to) return new THREE.Matrix4()
    const by = to.sub(from)
    this.taken.add(by)
    return new THREE.Matrix4().makeTranslation(by)
  }
  private turned(at: Pointer): THREE.Matrix4 {
    const axis = (k: number) => new THREE.Vector3().setFromMatrixColumn(this.view.camera.matrixWorld, k)
    const about = (k: number, px: number) => new THREE.Matrix4().makeRotationAxis(axis(k), px * TURN_PER_PX)
    const turn = about(1, at.x - this.last!.x).multiply(about(0, at.y - this.last!.y))
    return turnedAbout(this.taken, turn)
  }
}

/** A turn about a place. */
export const turnedAbout = ({ x, y, z }: THREE.Vector3, turn: THREE.Matrix4): THREE.Matrix4 =>
  new THREE.Matrix4()
    .makeTranslation(x, y, z)
    .multiply(turn)
    .multiply(new THREE.Matrix4().makeTranslation(-x, -y, -z))
