import * as THREE from 'three'
import { dropFrom } from '@/bench/viewer/dispose'
import type { Layer } from '@/bench/viewer/layers/Layer'

/** A plane to draw: its four corners (mm), and whether its handles are shown. */
export interface ShownPlane {
  name: string
  corners: Float32Array
  chosen: boolean
}
/** What a handle does to its plane. */
export type HandleKind = 'push' | 'across' | 'along'
export interface Handle {
  kind: HandleKind
  /** Where it is, and the directions that a drag of it is measured along. */
  at: THREE.Vector3
  normal: THREE.Vector3
  arm: THREE.Vector3
}
/** Colours of sheets and of the chosen one's outline and handles. */
export interface PlaneColours {
  sheet: string
  chosen: string
}
const HANDLE_PX = 8
const ARM = 0.32 // of the plane's width, from its middle to a handle that tilts

/** Cut planes as thin sheets with an outline, and the handles of the chosen one. */
export class Planes implements Layer {
  readonly object = new THREE.Group()
  private readonly knobs = new THREE.Group()
  handles: Handle[] = []

  constructor() {
    this.object.add(this.knobs)
  }
  set(planes: ShownPlane[], colours: PlaneColours) {
    this.clear()
    for (const plane of planes) this.object.add(sheetOf(plane, colours))
    const chosen = planes.find((p) => p.chosen)
    this.handles = chosen ? handlesOf(chosen.corners) : []
    for (const handle of this.handles) this.knobs.add(knobOf(handle, colours))
  }
  clear() {
    dropFrom(this.knobs)
    dropFrom(this.object, (o) => o !== this.knobs)
    this.handles = []
  }
  /** Knobs keep their size on the screen. */
  before(camera: THREE.PerspectiveCamera, height: number) {
    const perPixel = (2 * Math.tan(THREE.MathUtils.degToRad(camera.fov / 2))) / Math.max(height, 1)
    for (const knob of this.knobs.children as THREE.Mesh[])
      if (knob.userData.knob)
        knob.scale.setScalar(HANDLE_PX * perPixel * camera.position.distanceTo(knob.position))
  }
  dispose() {
    this.clear()
  }
}

/** The frame of a plane by its corners: middle, normal, the two directions along its sides, and its width. */
export function frameOf(corners: ArrayLike<number>) {
  const at = (n: number) => new THREE.Vector3(corners[3 * n], corners[3 * n + 1], corners[3 * n + 2])
  const [a, b, c, d] = [at(0), at(1), at(2), at(3)]
  const middle = a.clone().add(b).add(c).add(d).multiplyScalar(0.25)
  const side = b.clone().sub(a)
  const width = side.length()
  const other = d.clone().sub(a)
  return { middle, side: side.normalize(), other: other.normalize(), width, corners: [a, b, c, d] }
}

/** Where the handles of a plane are: one to push in its middle, two to tilt at the ends of its arms. */
export function handlesOf(corners: ArrayLike<number>): Handle[] {
  const { middle, side, other, width } = frameOf(corners)
  const normal = side.clone().cross(other).normalize()
  const end = (arm: THREE.Vector3) => middle.clone().addScaledVector(arm, ARM * width)
  return [
    { kind: 'push', at: middle.clone().addScaledVector(normal, 0.12 * width), normal, arm: normal },
    { kind: 'along', at: end(side), normal, arm: side.clone().multiplyScalar(ARM * width) },
    { kind: 'across', at: end(other), normal, arm: other.clone().multiplyScalar(ARM * width) },
  ]
}

function sheetOf({ corners, chosen }: ShownPlane, colours: PlaneColours): THREE.Object3D {
  const geometry = new THREE.BufferGeometry()
  geometry.setAttribute('position', new THREE.BufferAttribute(corners.slice(), 3))
  geometry.setIndex([0, 1, 2, 0, 2, 3])
  const fill = new THREE.MeshBasicMaterial({
    color: colours.sheet,
    transparent: true,
    opacity: chosen ? 0.1 : 0.05,
    side: THREE.DoubleSide,
    depthWrite: false,
  })
  const rim = new THREE.BufferGeometry()
  rim.setAttribute('position', new THREE.BufferAttribute(corners.slice(), 3))
  const line = new THREE.LineBasicMaterial({
    color: chosen ? colours.chosen : colours.sheet,
    transparent: true,
    opacity: 0.8,
  })
  const group = new THREE.Group()
  group.add(new THREE.Mesh(geometry, fill), new THREE.LineLoop(rim, line))
  return group
}

function knobOf(handle: Handle, { chosen }: PlaneColours): THREE.Object3D {
  const material = new THREE.MeshBasicMaterial({ color: chosen, depthTest: false, transparent: true })
  const shape =
    handle.kind === 'push' ? new THREE.OctahedronGeometry(1) : new THREE.SphereGeometry(0.8, 16, 12)
  const knob = new THREE.Mesh(shape, material)
  knob.position.copy(handle.at)
  knob.renderOrder = 10
  knob.userData.knob = true
  return knob
}
