import * as THREE from 'three'
import { dropShapes } from '@/bench/viewer/dispose'
import { coverageColours } from '@/bench/viewer/layers/CoverageSurface'
import { Inks } from '@/bench/viewer/layers/inks'
import type { Layer, ViewStyle } from '@/bench/viewer/layers/Layer'

/** The model of a pass by hand as it grows: a net with colours, and how well each of its points was seen. */
export interface GrownModel {
  vertices: Float32Array
  faces: Uint32Array
  colours: Uint8Array
  level: Uint8Array
}
/** What the head sees now, where it is (4×4, row by row; empty while lost), eye and aim of the next move, and markers. */
export interface HandPose {
  outline: Float32Array
  head: Float32Array
  next: Float32Array
  dots: Float32Array
}
export interface HandInks {
  line: string
  next: string
}
const PLAIN = '#9aa3aa'
/** How far the corners of the head's field stand apart at the end of its rays, as a share of their length. */
const FIELD = 0.24
/** How far the head is drawn off the object, as a share of where it is: so that the object stays large in view. */
const NEARER = 0.42
const REACH = 0.5
const MARK = 0.07
/** Of a ray's dashes, as a share of its length. */
const DASH = 0.02
const CORNERS = [
  [-1, -0.75],
  [1, -0.75],
  [1, 0.75],
  [-1, 0.75],
]

/** The growing model with the outline of what is seen just now, the head, and a ghost of where to hold it next. */
export class LiveModel implements Layer {
  readonly object = new THREE.Group()
  private readonly grown = new THREE.Group()
  private readonly marks = new THREE.Group()
  private readonly inks = new Inks()
  private readonly skin = new THREE.MeshLambertMaterial({ vertexColors: true, side: THREE.DoubleSide })
  private readonly box = new THREE.Box3()
  private mode = ''
  private data: GrownModel | null = null
  private steps: string[] = []

  constructor() {
    this.object.add(this.grown, this.marks)
  }
  get empty() {
    return this.grown.children.length === 0
  }
  /** Millimetres across. */
  get size() {
    return this.empty ? 0 : this.box.getSize(new THREE.Vector3()).length()
  }
  setModel(data: GrownModel, steps: string[]) {
    dropShapes(this.grown)
    this.data = data
    this.steps = steps
    const geometry = new THREE.BufferGeometry()
    geometry.setAttribute('position', new THREE.BufferAttribute(data.vertices, 3))
    geometry.setIndex(new THREE.BufferAttribute(data.faces, 1))
    geometry.computeVertexNormals()
    geometry.computeBoundingBox()
    this.box.copy(geometry.boundingBox!)
    this.grown.add(new THREE.Mesh(geometry, this.skin))
    this.paint()
  }
  setPose({ outline, head, next, dots }: HandPose, inks: HandInks) {
    dropShapes(this.marks)
    if (dots.length) this.marks.add(new THREE.Points(placed(dots), this.inks.points(inks.next)))
    if (outline.length) this.marks.add(new THREE.LineLoop(placed(outline), this.inks.line(inks.line)))
    if (head.length) {
      const pose = new THREE.Matrix4().fromArray(head).transpose()
      this.marks.add(headOf(pose, this.middle(), this.inks, inks.line, false))
    }
    if (next.length) this.marks.add(ghostOf(next, this.inks, inks.next))
  }
  clear() {
    dropShapes(this.grown)
    dropShapes(this.marks)
    this.data = null
  }
  style({ mode, looking }: ViewStyle) {
    this.object.visible = !looking
    if (mode === this.mode) return
    this.mode = mode
    this.paint()
  }
  measure(box: THREE.Box3) {
    if (!this.empty) box.expandByObject(this.grown, false)
  }
  dispose() {
    this.clear()
    this.skin.dispose()
    this.inks.dispose()
  }

  private middle() {
    return this.empty ? new THREE.Vector3() : this.box.getCenter(new THREE.Vector3())
  }
  private paint() {
    const mesh = this.grown.children[0] as THREE.Mesh<THREE.BufferGeometry> | undefined
    if (!mesh || !this.data) return
    const { colours, level } = this.data
    const painted =
      this.mode === 'coverage'
        ? coverageColours(level, this.steps)
        : this.mode === 'colour'
          ? linear(colours)
          : flat(level.length)
    mesh.geometry.setAttribute('color', new THREE.BufferAttribute(painted, 3))
  }
}

function linear(colours: Uint8Array) {
  const out = new Float32Array(colours.length)
  colours.forEach((c, n) => (out[n] = Math.pow(c / 255, 2.2)))
  return out
}
function flat(count: number) {
  const { r, g, b } = new THREE.Color(PLAIN)
  const out = new Float32Array(3 * count)
  for (let n = 0; n < count; n++) out.set([r, g, b], 3 * n)
  return out
}
function placed(places: Float32Array) {
  return new THREE.BufferGeometry().setAttribute('position', new THREE.BufferAttribute(places, 3))
}
/** A head as the rays of its field towards the object. */
function headOf(pose: THREE.Matrix4, middle: THREE.Vector3, inks: Inks, ink: string, ghost: boolean) {
  const group = new THREE.Group()
  const eye = new THREE.Vector3().setFromMatrixPosition(pose).lerp(middle, 1 - NEARER)
  pose = pose.clone().setPosition(eye)
  const length = eye.distanceTo(middle) * REACH
  const ends: THREE.Vector3[] = []
  for (const [x, y] of CORNERS) {
    const end = new THREE.Vector3(x * FIELD * length, y * FIELD * length, length).applyMatrix4(pose)
    ends.push(end)
    const ray = new THREE.BufferGeometry().setFromPoints([eye, end])
    const line = new THREE.Line(ray, inks.dashes(ink, DASH * length))
    line.computeLineDistances()
    group.add(line)
  }
  const size = length * MARK
  const mark = new THREE.Mesh(new THREE.BoxGeometry(2 * size, 1.2 * size, 0.8 * size), inks.body(ink, ghost))
  mark.applyMatrix4(pose)
  group.add(mark)
  return group
}
/** A ghost of the head where it is to be held next, looking at its aim. */
function ghostOf([a, b, c, d, e, f]: Float32Array, inks: Inks, ink: string) {
  const eye = new THREE.Vector3(a, b, c)
  const aim = new THREE.Vector3(d, e, f)
  const look = new THREE.Matrix4().lookAt(aim, eye, new THREE.Vector3(0, 0, 1)).setPosition(eye)
  return headOf(look, aim, inks, ink, true)
}
