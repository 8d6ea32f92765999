import * as THREE from 'three'
import { OrbitControls } from 'three/examples/jsm/controls/OrbitControls.js'
import { MeshoptDecoder } from 'three/examples/jsm/libs/meshopt_decoder.module.js'
import { GLTFLoader } from 'three/examples/jsm/loaders/GLTFLoader.js'
import { pointsObject } from '@/viewer/points'

export type ViewMode = 'colour' | 'shape' | 'passes' | 'made-up'

/** What the overlays need to know after every frame that was drawn. */
export interface ViewState {
  azimuth: number
  elevation: number
  mmPerPixel: number
}

const MAX_POINTS = 1_000_000
const MAX_POINTS_MOVING = 150_000
const SETTLED_MS = 160

/** The view of an object: plain three.js behind a small interface, drawn only when something changed. */
export class Viewer {
  private readonly renderer: THREE.WebGLRenderer
  private readonly scene = new THREE.Scene()
  private readonly camera = new THREE.PerspectiveCamera(30, 1, 1, 20000)
  private readonly controls: OrbitControls
  private readonly sun = new THREE.DirectionalLight(0xffffff, 2.3)
  private readonly shadow: THREE.Mesh
  private readonly passes: THREE.Group = new THREE.Group()
  private readonly surface: THREE.Group = new THREE.Group()
  private readonly wires: THREE.Group = new THREE.Group()
  private readonly loader = new GLTFLoader().setMeshoptDecoder(MeshoptDecoder)
  private readonly observer: ResizeObserver
  private mode: ViewMode = 'colour'
  private wireframe = false
  private textured = true
  private asked = false
  private moving = false
  private quiet = 0
  private sunAt = { azimuth: -0.6, elevation: 0.7 }
  private bounds = new THREE.Box3()

  constructor(
    private readonly host: HTMLElement,
    private readonly onView: (state: ViewState) => void,
    pixelRatio = Math.min(window.devicePixelRatio, 2),
  ) {
    this.renderer = new THREE.WebGLRenderer({ antialias: true, alpha: true })
    this.renderer.setPixelRatio(pixelRatio)
    host.appendChild(this.renderer.domElement)
    this.camera.up.set(0, 0, 1)
    this.camera.position.set(-160, -300, 120)
    this.controls = new OrbitControls(this.camera, this.renderer.domElement)
    this.controls.zoomToCursor = true
    this.controls.addEventListener('change', () => this.onMove())
    this.shadow = floorShadow()
    this.scene.add(new THREE.HemisphereLight(0xfffbf0, 0xb8ad98, 1.25), this.sun, this.shadow)
    this.scene.add(this.passes, this.surface, this.wires)
    this.observer = new ResizeObserver(() => this.resize())
    this.observer.observe(host)
    this.placeSun()
    this.resize()
  }

  /** Show a pass's points; `number` says which, and gives its hue. */
  setPass(number: number, buffer: ArrayBuffer, hue: string) {
    this.removePass(number)
    const points = pointsObject(buffer, hue)
    points.name = `pass-${number}`
    this.passes.add(points)
    this.refresh()
  }

  /** Add one frame's points of a pass that is being captured. */
  addLive(buffer: ArrayBuffer, hue: string) {
    const points = pointsObject(buffer, hue)
    points.name = 'live'
    this.passes.add(points)
    this.refresh()
    if (this.passes.children.length === 1) this.frameAll()
  }

  removePass(number: number) {
    this.drop(this.passes, (o) => o.name === `pass-${number}`)
  }

  clearPasses() {
    this.drop(this.passes, () => true)
    this.ask()
  }

  clearMesh() {
    this.drop(this.surface, () => true)
    this.drop(this.wires, () => true)
    this.refresh()
  }

  /** Show a mesh packed by the server. */
  async setMesh(buffer: ArrayBuffer): Promise<void> {
    const gltf = await this.loader.parseAsync(buffer, '')
    this.clearMesh()
    const parts: THREE.Mesh[] = []
    gltf.scene.updateMatrixWorld(true)
    gltf.scene.traverse((o) => (o as THREE.Mesh).isMesh && parts.push(o as THREE.Mesh))
    for (const part of parts) {
      const source = part.material as THREE.MeshStandardMaterial
      const madeUp = source.name === 'made up'
      const geometry = part.geometry
      if (geometry.attributes._srgb) geometry.setAttribute('color', linearColours(geometry.attributes._srgb))
      const mesh = new THREE.Mesh(geometry, new THREE.MeshStandardMaterial({ roughness: 0.9 }))
      mesh.userData = { madeUp, map: source.map }
      part.matrixWorld.decompose(mesh.position, mesh.quaternion, mesh.scale)
      this.surface.add(mesh)
    }
    this.refresh()
  }

  setMode(mode: ViewMode) {
    this.mode = mode
    this.refresh()
  }

  setTextured(on: boolean) {
    this.textured = on
    this.refresh()
  }

  setWireframe(on: boolean) {
    this.wireframe = on
    this.refresh()
  }

  /** Put everything in view. */
  frameAll() {
    this.measure()
    if (this.bounds.isEmpty()) return
    const middle = this.bounds.getCenter(new THREE.Vector3())
    const radius = this.bounds.getSize(new THREE.Vector3()).length() / 2
    const away = (radius / Math.sin(THREE.MathUtils.degToRad(this.camera.fov / 2))) * 1.02
    const direction = this.camera.position.clone().sub(this.controls.target).normalize()
    this.controls.target.copy(middle)
    this.camera.position.copy(middle).addScaledVector(direction, away)
    this.camera.near = away / 100
    this.camera.far = away * 20
    this.camera.updateProjectionMatrix()
    this.controls.update()
    this.ask()
  }

  /** Look from a compass direction and height (radians); azimuth 0 is the front. */
  lookFrom(azimuth: number, elevation: number) {
    const away = this.camera.position.distanceTo(this.controls.target)
    const flat = Math.cos(elevation) * away
    this.camera.position
      .copy(this.controls.target)
      .add(new THREE.Vector3(Math.sin(azimuth) * flat, -Math.cos(azimuth) * flat, Math.sin(elevation) * away))
    this.controls.update()
    this.ask()
  }

  /** Fly to a place of the object (mm). */
  flyTo(place: number[]) {
    const target = new THREE.Vector3().fromArray(place)
    this.measure()
    const out = target.clone().sub(this.bounds.getCenter(new THREE.Vector3()))
    if (out.length() < 1e-6) out.set(0, -1, 0.2)
    const away = this.bounds.getSize(new THREE.Vector3()).length() * 0.9
    this.controls.target.copy(target)
    this.camera.position.copy(target).addScaledVector(out.normalize(), away)
    this.controls.update()
    this.ask()
  }

  /** Move the light by angles (radians). */
  moveLight(azimuth: number, elevation: number) {
    this.sunAt.azimuth += azimuth
    this.sunAt.elevation = THREE.MathUtils.clamp(this.sunAt.elevation + elevation, -0.2, 1.5)
    this.placeSun()
    this.ask()
  }

  dispose() {
    this.observer.disconnect()
    this.controls.dispose()
    this.clearPasses()
    this.clearMesh()
    this.renderer.dispose()
    this.renderer.forceContextLoss()
    this.renderer.domElement.remove()
  }

  private placeSun() {
    const { azimuth, elevation } = this.sunAt
    const flat = Math.cos(elevation)
    this.sun.position.set(Math.sin(azimuth) * flat, -Math.cos(azimuth) * flat, Math.sin(elevation))
  }

  private drop(group: THREE.Group, which: (o: THREE.Object3D) => boolean) {
    for (const child of group.children.filter(which)) {
      group.remove(child)
      const mesh = child as THREE.Mesh
      if (group !== this.wires) mesh.geometry.dispose()
      ;(mesh.material as THREE.Material & { map?: THREE.Texture }).dispose()
    }
  }

  private measure() {
    this.bounds.makeEmpty()
    const shown = this.surface.visible && this.surface.children.length ? this.surface : this.passes
    for (const child of shown.children) this.bounds.expandByObject(child, false)
  }

  /** Bring what is drawn in line with mode and switches. */
  private refresh() {
    const hasMesh = this.surface.children.length > 0
    const points = this.mode === 'passes' || !hasMesh
    this.passes.visible = points
    this.surface.visible = !points
    for (const child of this.passes.children as THREE.Points[]) {
      const material = child.material as THREE.ShaderMaterial
      material.uniforms.ownColour.value = this.mode === 'colour' && this.textured ? 1 : 0
      if (this.mode === 'shape') material.uniforms.hue.value.setStyle('#8d97a0')
    }
    this.drop(this.wires, () => true)
    for (const child of this.surface.children as THREE.Mesh[]) {
      this.dress(child)
      if (this.wireframe && this.surface.visible) this.wires.add(wireOf(child))
    }
    this.measure()
    this.layShadow()
    this.ask()
  }

  private dress(mesh: THREE.Mesh) {
    const material = mesh.material as THREE.MeshStandardMaterial
    const { madeUp, map } = mesh.userData as { madeUp: boolean; map: THREE.Texture | null }
    const showColour = this.mode === 'colour' && this.textured
    material.map = showColour ? map : null
    material.vertexColors = showColour && !map && !!mesh.geometry.attributes.color
    const plain = this.mode === 'made-up' ? (madeUp ? '#c98a24' : '#4d6f93') : '#b9b3a6'
    material.color.set(showColour && (map || material.vertexColors) ? '#ffffff' : plain)
    material.needsUpdate = true
  }

  private layShadow() {
    this.shadow.visible = !this.bounds.isEmpty() && this.surface.visible
    if (!this.shadow.visible) return
    const size = this.bounds.getSize(new THREE.Vector3())
    const middle = this.bounds.getCenter(new THREE.Vector3())
    this.shadow.scale.set(size.x * 2.1 + 10, size.y * 2.1 + 10, 1)
    this.shadow.position.set(middle.x, middle.y, this.bounds.min.z - 0.01 * size.z)
  }

  private onMove() {
    this.moving = true
    window.clearTimeout(this.quiet)
    this.quiet = window.setTimeout(() => {
      this.moving = false
      this.ask()
    }, SETTLED_MS)
    this.ask()
  }

  private ask() {
    if (this.asked) return
    this.asked = true
    requestAnimationFrame(() => this.draw())
  }

  private draw() {
    this.asked = false
    const clouds = this.passes.children as THREE.Points[]
    const budget = (this.moving ? MAX_POINTS_MOVING : MAX_POINTS) / Math.max(clouds.length, 1)
    for (const cloud of clouds) cloud.geometry.setDrawRange(0, Math.floor(budget))
    this.renderer.render(this.scene, this.camera)
    const offset = this.camera.position.clone().sub(this.controls.target)
    const away = offset.length()
    const height = this.host.clientHeight || 1
    this.onView({
      azimuth: Math.atan2(offset.x, -offset.y),
      elevation: Math.asin(offset.z / Math.max(away, 1e-9)),
      mmPerPixel: (2 * away * Math.tan(THREE.MathUtils.degToRad(this.camera.fov / 2))) / height,
    })
  }

  private resize() {
    const { clientWidth, clientHeight } = this.host
    if (!clientWidth || !clientHeight) return
    this.renderer.setSize(clientWidth, clientHeight)
    this.camera.aspect = clientWidth / clientHeight
    this.camera.updateProjectionMatrix()
    this.ask()
  }
}

/** sRGB bytes as the linear colours that three expects of vertices. */
function linearColours(
  source: THREE.BufferAttribute | THREE.InterleavedBufferAttribute,
): THREE.BufferAttribute {
  const out = new Float32Array(source.count * 3)
  const colour = new THREE.Color()
  for (let i = 0; i < source.count; i++) {
    colour.setRGB(source.getX(i), source.getY(i), source.getZ(i), THREE.SRGBColorSpace)
    colour.toArray(out, i * 3)
  }
  return new THREE.BufferAttribute(out, 3)
}

function wireOf(mesh: THREE.Mesh): THREE.Mesh {
  const material = new THREE.MeshBasicMaterial({
    color: '#1d2b3a',
    wireframe: true,
    transparent: true,
    opacity: 0.28,
    polygonOffset: true,
    polygonOffsetFactor: -1,
  })
  const wire = new THREE.Mesh(mesh.geometry, material)
  wire.position.copy(mesh.position)
  wire.quaternion.copy(mesh.quaternion)
  wire.scale.copy(mesh.scale)
  return wire
}

function floorShadow(): THREE.Mesh {
  const material = new THREE.ShaderMaterial({
    transparent: true,
    depthWrite: false,
    vertexShader:
      'varying vec2 at; void main() { at = uv * 2.0 - 1.0; gl_Position = projectionMatrix * modelViewMatrix * vec4(position, 1.0); }',
    fragmentShader:
      'varying vec2 at; void main() { float d = length(at); gl_FragColor = vec4(0.16, 0.13, 0.09, 0.34 * pow(max(1.0 - d, 0.0), 1.6)); }',
  })
  return new THREE.Mesh(new THREE.PlaneGeometry(1, 1), material)
}
