import * as THREE from 'three'
import { drawInset, INSET } from '@/bench/viewer/inset'
import type { CoverageSurface } from '@/bench/viewer/layers/CoverageSurface'

/** How an object lies on its plate for a pass: a rotation, row by row, and how steeply the head looks down. */
export interface Lay {
  turned: number[]
  down_deg: number
}
const FOV = 28
/** In radii of the object: how wide the plate is, half the picture's height, how far off the head stands, how long it is. */
const PLATE = 1.15
const FITS = 1.35
const HEAD_AWAY = 1.9
const HEAD = 0.4
/** From where the picture looks: aside of the head, a little from above. */
const ASIDE = THREE.MathUtils.degToRad(62)
const ABOVE = THREE.MathUtils.degToRad(16)

/** A small picture of the object as it lies anew on the plate, painted as in the large view, and of the head before it. */
export class LayInset {
  private readonly scene = new THREE.Scene()
  private readonly object = new THREE.Mesh(
    new THREE.BufferGeometry(),
    new THREE.MeshStandardMaterial({ vertexColors: true, roughness: 0.95, side: THREE.DoubleSide }),
  )
  private readonly plate = new THREE.Mesh(
    new THREE.CircleGeometry(1, 48),
    new THREE.MeshBasicMaterial({ side: THREE.DoubleSide, transparent: true, opacity: 0.28 }),
  )
  private readonly head = new THREE.Group()
  private readonly cone = new THREE.Mesh(new THREE.ConeGeometry(0.5, 1, 4), new THREE.MeshBasicMaterial())
  private readonly sight = new THREE.Line(
    new THREE.BufferGeometry(),
    new THREE.LineDashedMaterial({ dashSize: 0.06, gapSize: 0.05 }),
  )
  private readonly eye = new THREE.PerspectiveCamera(FOV, INSET.width / INSET.height, 1, 20000)
  private lay: Lay | null = null

  constructor(private readonly coverage: CoverageSurface) {
    this.cone.geometry.rotateX(-Math.PI / 2)
    this.head.add(this.cone, this.sight)
    const sun = new THREE.DirectionalLight(0xffffff, 2.2)
    sun.position.set(-0.4, -0.7, 0.9)
    this.scene.add(
      this.object,
      this.plate,
      this.head,
      new THREE.HemisphereLight(0xfffbf0, 0xb8ad98, 1.3),
      sun,
    )
  }
  /** Show how it lies for a pass, or nothing. */
  show(lay: Lay | null, colours: { plate: string; head: string }) {
    this.lay = lay
    ;(this.plate.material as THREE.MeshBasicMaterial).color.set(colours.plate)
    for (const part of [this.cone, this.sight])
      (part.material as THREE.MeshBasicMaterial | THREE.LineDashedMaterial).color.set(colours.head)
  }
  /** Draw it over what was drawn. */
  render(renderer: THREE.WebGLRenderer, size: [number, number]) {
    const shape = this.coverage.shape
    if (!this.lay || !shape || !this.coverage.object.visible) return
    this.place(shape, this.lay)
    drawInset(renderer, size, () => {
      renderer.clearDepth()
      renderer.autoClear = false
      renderer.render(this.scene, this.eye)
      renderer.autoClear = true
    })
  }
  dispose() {
    this.object.material.dispose()
    for (const part of [this.plate, this.cone, this.sight]) {
      part.geometry.dispose()
      ;(part.material as THREE.Material).dispose()
    }
  }
  private place(shape: THREE.BufferGeometry, { turned: R, down_deg }: Lay) {
    this.object.geometry = shape
    if (!shape.boundingSphere) shape.computeBoundingSphere()
    const { center, radius } = shape.boundingSphere!
    const turn = new THREE.Matrix4().set(
      R[0],
      R[1],
      R[2],
      0,
      R[3],
      R[4],
      R[5],
      0,
      R[6],
      R[7],
      R[8],
      0,
      0,
      0,
      0,
      1,
    )
    const middle = center.clone().applyMatrix4(turn)
    this.object.matrixAutoUpdate = false
    this.object.matrix.makeTranslation(middle.negate()).multiply(turn)
    this.plate.scale.setScalar(PLATE * radius)
    this.plate.position.z = lowest(shape, this.object.matrix)
    const down = THREE.MathUtils.degToRad(down_deg)
    this.head.position.set(0, -Math.cos(down), Math.sin(down)).multiplyScalar(HEAD_AWAY * radius)
    this.head.up.set(0, 0, 1)
    this.head.lookAt(0, 0, 0)
    this.cone.scale.setScalar(HEAD * radius)
    this.sight.scale.setScalar(radius)
    this.sight.geometry.setFromPoints([
      new THREE.Vector3(0, 0, HEAD / 2),
      new THREE.Vector3(0, 0, HEAD_AWAY - 1),
    ])
    this.sight.computeLineDistances()
    const away = (FITS * radius) / Math.sin(THREE.MathUtils.degToRad(FOV / 2))
    this.eye.up.set(0, 0, 1)
    this.eye.position
      .set(Math.sin(ASIDE) * Math.cos(ABOVE), -Math.cos(ASIDE) * Math.cos(ABOVE), Math.sin(ABOVE))
      .multiplyScalar(away)
      .add(new THREE.Vector3(0, -0.4 * HEAD_AWAY * radius, 0.2 * radius))
    this.eye.lookAt(0, -0.4 * HEAD_AWAY * radius, 0.2 * radius)
    this.eye.near = away / 100
    this.eye.far = away * 20
    this.eye.updateProjectionMatrix()
  }
}

/** The height of the lowest corner of a shape that is moved so. */
function lowest(shape: THREE.BufferGeometry, { elements: m }: THREE.Matrix4): number {
  const { array } = shape.attributes.position
  let low = Infinity
  for (let n = 0; n < array.length; n += 3)
    low = Math.min(low, m[2] * array[n] + m[6] * array[n + 1] + m[10] * array[n + 2] + m[14])
  return low
}
