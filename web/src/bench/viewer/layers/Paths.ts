import * as THREE from 'three'
import { dropFrom } from '@/bench/viewer/dispose'
import type { Layer } from '@/bench/viewer/layers/Layer'

/** A motion that the shape does not hold: a slide along an axis or a turn about it. */
export interface ShownSlip {
  kind: string
  through: number[]
  direction: number[]
}
/** Where the head stands for each stop, how many of them were taken, and what may slip. */
export interface ShownPath {
  eyes: ArrayLike<number>
  middle: ArrayLike<number>
  taken: number
  slips: ShownSlip[]
}
export interface PathColours {
  path: string
  slip: string
}
const FROM = 0.42 // of the way to the object where a ray begins, so that the object stays large in view
const NEAR = 0.4 // of the rest that it goes
const EYE = 0.022 // of its distance: size of the mark where the head stands
const RING_STEPS = 64

/** The path of a pass as rays from every stop, and the axes along or about which the object may slip. */
export class Paths implements Layer {
  readonly object = new THREE.Group()

  set({ eyes, middle, taken, slips }: ShownPath, colours: PathColours) {
    this.clear()
    const at = new THREE.Vector3(middle[0], middle[1], middle[2])
    const count = eyes.length / 3
    for (let n = 0; n < count; n++) {
      const eye = new THREE.Vector3(eyes[3 * n], eyes[3 * n + 1], eyes[3 * n + 2]).lerp(at, FROM)
      this.object.add(rayOf(eye, at, n < taken, colours.path))
    }
    const reach = count ? 0.3 * at.distanceTo(new THREE.Vector3(eyes[0], eyes[1], eyes[2])) : 60
    for (const slip of slips) this.object.add(slipOf(slip, reach, colours.slip))
  }
  clear() {
    dropFrom(this.object)
  }
  /** The stops are in view with the object. */
  measure(box: THREE.Box3) {
    for (const child of this.object.children)
      if (child.userData.eye) box.expandByPoint(child.userData.eye as THREE.Vector3)
  }
  dispose() {
    this.clear()
  }
}

function rayOf(eye: THREE.Vector3, at: THREE.Vector3, taken: boolean, colour: string): THREE.Object3D {
  const group = new THREE.Group()
  const end = eye.clone().lerp(at, NEAR)
  const line = new THREE.BufferGeometry().setFromPoints([eye, end])
  const faint = { color: colour, transparent: true, opacity: taken ? 0.9 : 0.38 }
  group.add(new THREE.Line(line, new THREE.LineBasicMaterial(faint)))
  const size = EYE * eye.distanceTo(at)
  const mark = new THREE.Mesh(
    new THREE.OctahedronGeometry(size),
    new THREE.MeshBasicMaterial({ ...faint, wireframe: !taken }),
  )
  mark.position.copy(eye)
  group.add(mark)
  group.userData.eye = eye
  return group
}

function slipOf(slip: ShownSlip, reach: number, colour: string): THREE.Object3D {
  const group = new THREE.Group()
  const through = new THREE.Vector3(...(slip.through as [number, number, number]))
  const along = new THREE.Vector3(...(slip.direction as [number, number, number])).normalize()
  const material = () => new THREE.LineBasicMaterial({ color: colour, depthTest: false, transparent: true })
  const ends = [-reach, reach].map((far) => through.clone().addScaledVector(along, far))
  group.add(new THREE.Line(new THREE.BufferGeometry().setFromPoints(ends), material()))
  if (slip.kind === 'turn') {
    const side = new THREE.Vector3(1, 0, 0).cross(along)
    if (side.lengthSq() < 0.01) side.set(0, 1, 0).cross(along)
    side.normalize()
    const other = along.clone().cross(side)
    const ring = Array.from({ length: RING_STEPS }, (_, k) => {
      const angle = (1.7 * Math.PI * k) / (RING_STEPS - 1)
      return through
        .clone()
        .addScaledVector(side, 0.55 * reach * Math.cos(angle))
        .addScaledVector(other, 0.55 * reach * Math.sin(angle))
    })
    group.add(new THREE.Line(new THREE.BufferGeometry().setFromPoints(ring), material()))
  }
  return group
}
