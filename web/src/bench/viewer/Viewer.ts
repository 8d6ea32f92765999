import * as THREE from 'three'
import * as views from '@/bench/viewer/camera'
import type { ViewState } from '@/bench/viewer/camera'
import type { ColourLook } from '@/bench/viewer/layers/surfaceMaterial'
import type { Layer, Place, Sight, ViewStyle } from '@/bench/viewer/layers/Layer'
import { Compare } from '@/bench/viewer/layers/Compare'
import { CoverageSurface } from '@/bench/viewer/layers/CoverageSurface'
import { OVER } from '@/bench/viewer/layers/Over'
import { LiveModel } from '@/bench/viewer/layers/LiveModel'
import { PassPoints } from '@/bench/viewer/layers/PassPoints'
import { Patches } from '@/bench/viewer/layers/Patches'
import { Paths } from '@/bench/viewer/layers/Paths'
import { Planes } from '@/bench/viewer/layers/Planes'
import { Rims } from '@/bench/viewer/layers/Rims'
import { ScreenLines } from '@/bench/viewer/layers/ScreenLines'
import { Shadow } from '@/bench/viewer/layers/Shadow'
import { Surface, type BuildTree } from '@/bench/viewer/layers/Surface'
import { KeyCursor } from '@/bench/viewer/keyCursor'
import { FitInset } from '@/bench/viewer/FitInset'
import { LayInset } from '@/bench/viewer/LayInset'
import { Light } from '@/bench/viewer/light'
import { PointerOwner } from '@/bench/viewer/pointer'
import { drawsInSoftware, Effort } from '@/bench/viewer/effort'
import { QuickPicture } from '@/bench/viewer/quickPicture'
import { Redraw } from '@/bench/viewer/redraw'
import { Orbit } from '@/bench/viewer/tools/Orbit'
import type { MakeTool, ToolView } from '@/bench/viewer/tools/Tool'

const SHARPEST = () => Math.min(window.devicePixelRatio, 2)
const COARSE = 0.75

/** The view of an object: plain three.js, drawn only when something changed. Layers own what is drawn, tools the pointer. */
export class Viewer implements ToolView {
  readonly camera = views.makeCamera()
  readonly points = new PassPoints()
  readonly preview = new PassPoints(true)
  readonly planes = new Planes()
  readonly paths = new Paths()
  readonly coverage = new CoverageSurface()
  readonly hand = new LiveModel()
  readonly rims = new Rims()
  readonly patches = new Patches()
  readonly surface: Surface
  readonly compare: Compare
  /** A small picture of how a pass would lie. */
  readonly inset = new FitInset(this.points)
  /** A small picture of how the object lies for a pass to come. */
  readonly lay = new LayInset(this.coverage)
  readonly lines: ScreenLines
  private readonly shadow = new Shadow()
  private readonly light = new Light()
  private readonly scene = new THREE.Scene()
  private readonly renderer = new THREE.WebGLRenderer({
    antialias: true,
    alpha: true,
    // Marks are drawn over it.
    preserveDrawingBuffer: true,
  })
  /** How much of what grows live the machine can draw. */
  readonly effort = new Effort(drawsInSoftware(this.renderer.getContext()))
  private readonly quick = new QuickPicture()
  private readonly orbit: Orbit
  private readonly pointer: PointerOwner
  /** A pointer that keys move, for a tool that is on. */
  readonly cursor: KeyCursor
  private readonly observer = new ResizeObserver(() => this.resize())
  private readonly layers: Layer[]
  private look: ViewStyle = {
    mode: 'colour',
    textured: true,
    wireframe: false,
    looking: false,
    comparing: false,
  }
  private readonly redraw = new Redraw((moving, over) => (over && this.drawOver()) || this.draw(moving))
  /** Draw soon. */
  readonly ask = this.redraw.ask
  /** Draw soon, lightly, and fully after so many milliseconds. */
  readonly askLightly = this.redraw.lightly
  /** Draw soon what changed of the surface's marks, over the picture that stands. */
  readonly askOver = this.redraw.askOver

  constructor(
    private readonly host: HTMLElement,
    private readonly onView: (state: ViewState) => void,
    buildTree?: BuildTree,
  ) {
    this.surface = new Surface(buildTree)
    this.compare = new Compare(buildTree)
    this.layers = [
      this.points,
      this.preview,
      this.surface,
      this.compare,
      this.rims,
      this.patches,
      this.coverage,
      this.hand,
      this.planes,
      this.paths,
      this.shadow,
    ]
    this.scene.add(this.light.object, ...this.layers.map((l) => l.object))
    this.renderer.setPixelRatio(SHARPEST())
    host.appendChild(this.renderer.domElement)
    this.lines = new ScreenLines(host)
    this.orbit = new Orbit(this.camera, this.renderer.domElement, this.redraw.move)
    this.pointer = new PointerOwner(host, this.orbit, ({ x, y }) => this.turnAbout(x, y))
    this.cursor = new KeyCursor(this.pointer, this.lines, () => [this.width, this.height])
    this.observer.observe(host)
    this.resize()
  }

  /** Change how things are drawn, or bring them in line after a layer changed. */
  style(change: Partial<ViewStyle> = {}) {
    this.look = { ...this.look, ...change }
    const { mode, comparing } = this.look
    const stands = !!comparing || (mode === 'coverage' ? !this.coverage.empty : !this.surface.empty)
    for (const layer of this.layers) layer.style?.(this.look, stands || !this.hand.empty)
    const covered = stands && (this.surface.object.visible || this.coverage.object.visible)
    this.shadow.lay(covered ? this.extent() : null)
    this.ask()
  }
  /** Turn a tool on, or with null turn the one that is on off. */
  use(make: MakeTool | null) {
    this.cursor.hide()
    this.pointer.take(make ? make(this) : null)
  }
  frameAll() {
    views.frameBox(this.camera, this.orbit.controls, this.extent())
    this.ask()
  }
  lookFrom(azimuth: number, elevation: number) {
    views.lookFrom(this.camera, this.orbit.controls, azimuth, elevation)
    this.ask()
  }
  flyTo(place: number[]) {
    views.flyTo(this.camera, this.orbit.controls, this.extent(), place)
    this.ask()
  }
  /** The number of the axis nearest to where the eye looks from. */
  alongSight(): number {
    const sight = this.camera.position.clone().sub(this.orbit.controls.target)
    const sizes = sight.toArray().map(Math.abs)
    return sizes.indexOf(Math.max(...sizes))
  }
  /** From where to where the scene reaches along a unit normal, in millimetres. */
  reachAlong(normal: THREE.Vector3): { from: number; to: number } {
    const box = this.extent()
    if (box.isEmpty()) return { from: -1, to: 1 }
    const ends = [box.min.dot(normal), box.max.dot(normal)]
    return { from: Math.min(...ends), to: Math.max(...ends) }
  }
  /** Show the laid colour adjusted, before a curtain as laid, or all of it as laid. */
  adjust(look: ColourLook | null) {
    this.surface.adjust(look, this.renderer.domElement.width)
    this.ask()
  }
  moveLight(azimuth: number, elevation: number) {
    this.light.move(azimuth, elevation)
    this.ask()
  }
  sight(x: number, y: number): Sight {
    const ray = views.rayThrough(this.camera, this.width, this.height, x, y)
    return { ray, pixel: views.pixelAngle(this.camera, this.height) }
  }
  project(place: THREE.Vector3): [number, number] {
    return views.pixelOf(this.camera, this.width, this.height, place)
  }
  /** The nearest place of what is drawn under a pixel. */
  pick(x: number, y: number): (Place & { distance: number }) | null {
    const sight = this.sight(x, y)
    const hits = this.layers.filter((l) => l.object.visible).map((l) => l.pick?.(sight) ?? null)
    return hits.reduce((a, b) => (!a || (b && b.distance < a.distance) ? b : a), null)
  }
  asJson() {
    return views.viewJson(this.camera, this.width, this.height)
  }
  /** What is held on the graphics card, to be watched over time. */
  get memory() {
    return { ...this.renderer.info.memory }
  }
  dispose() {
    this.observer.disconnect()
    this.pointer.dispose()
    this.orbit.dispose()
    for (const layer of [...this.layers, this.lines, this.lay, this.quick]) layer.dispose()
    this.renderer.dispose()
    this.renderer.forceContextLoss()
    this.renderer.domElement.remove()
  }

  private turnAbout(x: number, y: number) {
    const found = this.pick(x, y)
    if (found) views.turnAbout(this.orbit.controls, found.place)
  }
  private extent(): THREE.Box3 {
    const box = new THREE.Box3()
    for (const layer of this.layers) if (layer.object.visible) layer.measure?.(box)
    return box
  }
  /** While it grows, what grows live is drawn with fewer pixels where the machine does not keep up, and plainly. */
  private keepUp(growing: boolean) {
    this.effort.look(!this.hand.empty, this.redraw)
    const late = this.redraw.slow || this.effort.inSoftware
    const ratio = !growing ? SHARPEST() : late ? COARSE : this.renderer.getPixelRatio()
    if (ratio !== this.renderer.getPixelRatio()) this.renderer.setPixelRatio(ratio)
  }
  private draw(moving: boolean) {
    const growing = moving && !this.hand.empty
    this.keepUp(growing)
    for (const layer of this.layers) layer.before?.(this.camera, this.height, moving)
    if (this.look.comparing)
      this.compare.render(this.renderer, this.scene, this.camera, [this.width, this.height])
    else if (this.effort.inSoftware && growing) this.quick.render(this.renderer, this.scene, this.camera)
    else this.renderer.render(this.scene, this.camera)
    this.inset.render(this.renderer, this.scene, this.camera, [this.width, this.height], this.look)
    this.lay.render(this.renderer, [this.width, this.height])
    this.surface.drawn()
    this.onView(views.viewState(this.camera, this.orbit.controls.target, this.height))
  }
  /** Draw the triangles whose marks changed over the picture; false when that would not show what is. */
  private drawOver(): boolean {
    if (this.look.comparing || this.look.wireframe || !this.surface.readyOver()) return false
    this.camera.layers.set(OVER)
    this.renderer.autoClear = false
    this.renderer.render(this.scene, this.camera)
    this.renderer.autoClear = true
    this.camera.layers.set(0)
    this.surface.drawn()
    return true
  }
  private get width() {
    return this.host.clientWidth || 1
  }
  private get height() {
    return this.host.clientHeight || 1
  }
  private resize() {
    if (!this.host.clientWidth || !this.host.clientHeight) return
    this.renderer.setSize(this.width, this.height)
    this.camera.aspect = this.width / this.height
    this.camera.updateProjectionMatrix()
    this.ask()
  }
}
