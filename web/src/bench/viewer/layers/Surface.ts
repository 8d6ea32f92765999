import * as THREE from 'three'
import { MeshoptDecoder } from 'three/examples/jsm/libs/meshopt_decoder.module.js'
import { GLTFLoader } from 'three/examples/jsm/loaders/GLTFLoader.js'
import type { MeshBVH } from 'three-mesh-bvh'
import { dropFrom } from '@/bench/viewer/dispose'
import {
  setFigures,
  setMarks,
  surfaceMaterial,
  type FigureScale,
} from '@/bench/viewer/layers/surfaceMaterial'
import type { MarkCloud } from '@/lib/marked'
import { showsPoints, type Layer, type Place, type Sight, type ViewStyle } from '@/bench/viewer/layers/Layer'

type Part = THREE.Mesh<THREE.BufferGeometry, THREE.MeshStandardMaterial>
/** Builds the tree that a surface is asked by, elsewhere than in the thread that draws. */
export type BuildTree = (geometry: THREE.BufferGeometry) => Promise<MeshBVH | null>

/** The fused surface, with texture or colours, its made-up part apart, and its wires. */
export class Surface implements Layer {
  readonly object = new THREE.Group()
  private readonly parts = new THREE.Group()
  private readonly wires = new THREE.Group()
  private readonly loader = new GLTFLoader().setMeshoptDecoder(MeshoptDecoder)

  constructor(private readonly buildTree: BuildTree = async () => null) {
    this.object.add(this.parts, this.wires)
  }

  /** Read a mesh packed by the server; nothing is shown yet. */
  async parse(buffer: ArrayBuffer): Promise<Part[]> {
    const gltf = await this.loader.parseAsync(buffer, '')
    gltf.scene.updateMatrixWorld(true)
    const found: Part[] = []
    gltf.scene.traverse((o) => (o as Part).isMesh && found.push(o as Part))
    return found.map((source) => partOf(source))
  }
  /** Show a mesh that was read. */
  show(parts: Part[]) {
    this.clear()
    this.parts.add(...parts)
    for (const part of parts)
      void this.buildTree(part.geometry).then((tree) => tree && (part.userData.tree = tree))
  }
  /** Free a mesh that was read and is not wanted any more. */
  drop(parts: Part[]) {
    const group = new THREE.Group()
    group.add(...parts)
    dropFrom(group)
  }
  clear() {
    this.dropWires()
    dropFrom(this.parts)
  }
  /** What marking needs of the surface as it is shown: its vertices on their grid. */
  cloud(): MarkCloud | null {
    const [part] = this.parts.children as Part[]
    if (!part) return null
    const { position, normal } = part.geometry.attributes
    const positions = new Uint16Array(3 * position.count)
    const normals = new Int8Array(4 * position.count)
    for (let n = 0; n < position.count; n++) {
      positions.set([position.getX(n), position.getY(n), position.getZ(n)], 3 * n)
      normals.set([127 * normal.getX(n), 127 * normal.getY(n), 127 * normal.getZ(n)], 4 * n)
    }
    const step = part.scale.x
    return {
      count: position.count,
      origin: part.position.toArray(),
      step,
      spacing: spacingOf(part),
      positions,
      normals,
    }
  }
  /** Show which vertices are marked, by packed flags, or none. */
  mark(flags: Uint8Array | null) {
    for (const part of this.parts.children as Part[]) setMarks(part.geometry, flags)
  }
  /** Show a figure (mm) of every vertex as colour, or none any more. */
  figures(values: Float32Array | null, scale: FigureScale) {
    for (const part of this.parts.children as Part[]) setFigures(part, values, scale)
  }
  get empty() {
    return this.parts.children.length === 0
  }

  style(style: ViewStyle) {
    const elsewhere = style.looking || style.comparing || showsPoints(style.mode)
    this.object.visible = !elsewhere && style.mode !== 'coverage'
    this.dropWires()
    for (const part of this.parts.children as Part[]) {
      dress(part, style)
      if (style.wireframe) this.wires.add(wireOf(part))
    }
  }
  pick({ ray }: Sight): (Place & { distance: number }) | null {
    if (!this.object.visible) return null
    const caster = new THREE.Raycaster(ray.origin, ray.direction)
    let best: (Place & { distance: number }) | null = null
    for (const part of this.parts.children as Part[]) {
      part.updateMatrixWorld()
      const hit = part.userData.tree ? castByTree(part, caster) : caster.intersectObject(part, false)[0]
      if (!hit || hit.distance >= (best?.distance ?? Infinity)) continue
      const normal = hit.face!.normal.clone().transformDirection(part.matrixWorld)
      best = {
        distance: hit.distance,
        place: hit.point.toArray(),
        normal: normal.toArray(),
        pass: null,
        frame: null,
        pixel: null,
      }
    }
    return best
  }
  measure(box: THREE.Box3) {
    if (this.object.visible) for (const part of this.parts.children) box.expandByObject(part, false)
  }
  dispose() {
    this.clear()
  }
  /** Wires share the geometry of their part, so only their material is freed. */
  private dropWires() {
    for (const { material } of this.wires.children as THREE.Mesh[]) (material as THREE.Material).dispose()
    this.wires.clear()
  }
}

function castByTree(part: Part, caster: THREE.Raycaster): THREE.Intersection | null {
  const inverse = part.matrixWorld.clone().invert()
  const local = caster.ray.clone().applyMatrix4(inverse)
  const hit = (part.userData.tree as MeshBVH).raycastFirst(local, THREE.DoubleSide)
  if (!hit) return null
  const point = hit.point.clone().applyMatrix4(part.matrixWorld)
  return { ...hit, point, distance: point.distanceTo(caster.ray.origin) } as THREE.Intersection
}

function partOf(source: Part): Part {
  const geometry = source.geometry
  const madeUp = source.material.name === 'made up'
  const map = source.material.map
  if (geometry.attributes._srgb) geometry.setAttribute('color', linearColours(geometry.attributes._srgb))
  source.material.dispose()
  const part: Part = new THREE.Mesh(geometry, surfaceMaterial())
  part.userData = { madeUp, map }
  source.matrixWorld.decompose(part.position, part.quaternion, part.scale)
  return part
}

function dress(part: Part, { mode, textured }: ViewStyle) {
  const material = part.material
  const { madeUp, map } = part.userData as { madeUp: boolean; map: THREE.Texture | null }
  const showColour = mode === 'colour' && textured
  material.map = showColour ? map : null
  material.vertexColors = showColour && !map && !!part.geometry.attributes.color
  const plain = mode === 'made-up' ? (madeUp ? '#c98a24' : '#4d6f93') : '#b9b3a6'
  material.color.set(showColour && (map || material.vertexColors) ? '#ffffff' : plain)
  material.needsUpdate = true
}

/** Usual distance (mm) between neighbouring vertices, from the sides of some triangles. */
function spacingOf(part: Part): number {
  const { index, attributes } = part.geometry
  if (!index?.count) return 1
  const [a, b] = [new THREE.Vector3(), new THREE.Vector3()]
  let total = 0
  const some = Math.min(2000, Math.floor(index.count / 3))
  for (let k = 0; k < some; k++) {
    const corner = 3 * Math.floor((k * index.count) / 3 / some)
    a.fromBufferAttribute(attributes.position, index.getX(corner))
    b.fromBufferAttribute(attributes.position, index.getX(corner + 1))
    total += a.distanceTo(b) * part.scale.x
  }
  return total / some
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
