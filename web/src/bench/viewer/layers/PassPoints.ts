import * as THREE from 'three'
import { dropFrom } from '@/bench/viewer/dispose'
import { showsPoints, type Layer, type Place, type Sight, type ViewStyle } from '@/bench/viewer/layers/Layer'
import {
  markPoints,
  nearestPoint,
  placeOf,
  pointsObject,
  type PointsData,
} from '@/bench/viewer/layers/points'
import { LIGHTLY } from '@/lib/blocks'

const MAX_POINTS = 1_000_000
const PLAIN = '#8d97a0'

type Cloud = THREE.Points<THREE.BufferGeometry, THREE.ShaderMaterial>

/** The points of the passes, each in its hue or its own colours, with what is marked of them. */
export class PassPoints implements Layer {
  readonly object = new THREE.Group()
  /** The points of the passes, or those of what the head sees before one. */
  constructor(private readonly ofPreview = false) {}
  private readonly motions = new Map<number, THREE.Matrix4>()
  private readonly plane = new THREE.Vector4(0, 0, 1, 0)
  private range = 0.1
  private flags = new Map<number, { digest: string; flags: Uint8Array }>()

  /** Show a pass's points. */
  set(pass: number, buffer: ArrayBuffer, hue: string) {
    this.remove(pass)
    const cloud = pointsObject(buffer, hue)
    cloud.userData.pass = pass
    cloud.userData.hue = hue
    this.object.add(cloud)
    this.place(cloud)
    this.showMarks(cloud)
  }
  /** Add one frame's points of a pass that is being captured. */
  addLive(buffer: ArrayBuffer, hue: string) {
    const cloud = pointsObject(buffer, hue)
    cloud.userData.hue = hue
    this.object.add(cloud)
  }
  remove(pass: number) {
    dropFrom(this.object, (o) => o.userData.pass === pass)
  }
  clear() {
    dropFrom(this.object)
  }
  get count() {
    return this.object.children.length
  }

  /** Show a pass elsewhere than it lies, by a motion of the object's frame; with null where it lies. */
  lay(pass: number, motion: THREE.Matrix4 | null) {
    if (motion) this.motions.set(pass, motion)
    else this.motions.delete(pass)
    for (const cloud of this.clouds) if (cloud.userData.pass === pass) this.place(cloud)
  }
  /** The motion by which a pass is shown elsewhere than it lies, or null. */
  laidBy(pass: number): THREE.Matrix4 | null {
    return this.motions.get(pass) ?? null
  }
  /** A ball round the points of a pass where it lies, or moved by a motion, or of all the others; null of none. */
  sphere(pass: number, motion?: THREE.Matrix4): THREE.Sphere | null {
    const ball = this.round((c) => c.userData.pass === pass)
    return motion ? (ball?.applyMatrix4(motion) ?? null) : ball
  }
  sphereOfOthers(pass: number): THREE.Sphere | null {
    return this.round((c) => c.userData.pass !== pass)
  }
  private round(chosen: (cloud: Cloud) => boolean): THREE.Sphere | null {
    const box = new THREE.Box3()
    for (const cloud of this.clouds.filter((c) => chosen(c) && this.dataOf(c).count > 0)) {
      if (!cloud.geometry.boundingBox) cloud.geometry.computeBoundingBox()
      const where = new THREE.Matrix4().compose(cloud.position, cloud.quaternion, cloud.scale)
      box.union(cloud.geometry.boundingBox!.clone().applyMatrix4(where))
    }
    return box.isEmpty() ? null : box.getBoundingSphere(new THREE.Sphere())
  }
  private place(cloud: Cloud) {
    const motion = this.motions.get(cloud.userData.pass)
    cloud.matrixAutoUpdate = !motion
    cloud.updateMatrix()
    if (motion) cloud.matrix.premultiply(motion)
    cloud.updateMatrixWorld(true)
  }

  /** Mark points of a pass, or none; flags made for other points than those shown wait until theirs come. */
  mark(pass: number, digest: string, flags: Uint8Array) {
    this.flags.set(pass, { digest, flags })
    for (const cloud of this.clouds) if (cloud.userData.pass === pass) this.showMarks(cloud)
  }
  /** Mark points of a pass by flags that were made of what is shown of it. */
  markShown(pass: number, flags: Uint8Array) {
    const cloud = this.clouds.find((c) => c.userData.pass === pass)
    if (cloud && this.dataOf(cloud).count <= flags.length * 8)
      this.mark(pass, this.dataOf(cloud).digest, flags)
  }
  /** The points of a pass that is shown. */
  data(pass: number): PointsData | null {
    const cloud = this.clouds.find((c) => c.userData.pass === pass)
    return cloud ? this.dataOf(cloud) : null
  }
  /** How far each point of a pass lies off the others, if it was told of the points that are shown; which passes know it. */
  setShift(pass: number, digest: string, shift: Float32Array) {
    const cloud = this.clouds.find((c) => c.userData.pass === pass)
    const held = cloud?.geometry.getAttribute('shift') as THREE.BufferAttribute | undefined
    if (!cloud || !held || this.dataOf(cloud).digest !== digest) return
    ;(held.array as Float32Array).set(shift.subarray(0, held.count))
    held.needsUpdate = true
  }
  /** From how many millimetres on a shift is shown as far as can be. */
  shiftRange(mm: number) {
    for (const { material } of this.clouds) material.uniforms.range.value = this.range = mm
  }
  /** Where the plane of slices lies: a unit normal and how far along it. */
  cutAt(normal: THREE.Vector3, at: number) {
    this.plane.set(normal.x, normal.y, normal.z, at)
    for (const { material } of this.clouds) material.uniforms.cut.value.copy(this.plane)
  }
  unmark() {
    this.markOnly([])
  }
  /** Mark points of some passes and of no others; whether that changed anything. */
  markOnly(all: { pass: number; digest: string; flags: Uint8Array }[]): boolean {
    this.flags = new Map(all.map(({ pass, ...own }) => [pass, own]))
    return this.clouds.map((cloud) => this.showMarks(cloud)).some(Boolean)
  }
  private showMarks(cloud: Cloud): boolean {
    const own = this.flags.get(cloud.userData.pass)
    return markPoints(cloud, own && own.digest === this.dataOf(cloud).digest ? own.flags : null)
  }

  style({ mode, textured, looking, over, comparing }: ViewStyle, covered: boolean) {
    const wanted = showsPoints(mode) || !covered || (!!over && !comparing && mode !== 'coverage')
    this.object.visible = looking === this.ofPreview && (looking || wanted)
    for (const { material, userData } of this.clouds) {
      material.uniforms.shifting.value = mode === 'shift' ? 1 : 0
      material.uniforms.slicing.value = mode === 'slice' ? 1 : 0
      material.uniforms.cut.value.copy(this.plane)
      material.uniforms.range.value = this.range
      material.uniforms.ownColour.value = mode === 'colour' && textured && !over ? 1 : 0
      material.uniforms.hue.value.setStyle(mode === 'shape' && !over ? PLAIN : userData.hue)
    }
  }
  pick({ ray, pixel }: Sight): (Place & { distance: number }) | null {
    let best: (Place & { distance: number }) | null = null
    for (const cloud of this.clouds) {
      const data = this.dataOf(cloud)
      if (!data.count) continue
      const motion = this.motions.get(cloud.userData.pass)
      const own = motion ? ray.clone().applyMatrix4(motion.clone().invert()) : ray
      const { index, along } = nearestPoint(data, own, pixel)
      if (index < 0 || along >= (best?.distance ?? Infinity)) continue
      const n = data.normals
      best = {
        distance: along,
        place: placeOf(data, index),
        normal: [n[4 * index] / 127, n[4 * index + 1] / 127, n[4 * index + 2] / 127],
        pass: cloud.userData.pass ?? null,
        frame: data.frame[index],
        pixel: data.pixel[index],
      }
    }
    return best
  }
  measure(box: THREE.Box3) {
    for (const cloud of this.clouds) if (this.dataOf(cloud).count) box.expandByObject(cloud, false)
  }
  before(_: THREE.PerspectiveCamera, __: number, moving: boolean) {
    const budget = (moving ? LIGHTLY : MAX_POINTS) / Math.max(this.count, 1)
    for (const cloud of this.clouds) cloud.geometry.setDrawRange(0, Math.floor(budget))
  }
  dispose() {
    this.flags.clear()
    this.motions.clear()
    this.clear()
  }
  private get clouds() {
    return this.object.children as Cloud[]
  }
  private dataOf(cloud: Cloud) {
    return cloud.userData.data as PointsData
  }
}
