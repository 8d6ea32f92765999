import * as THREE from 'three'
import { MeshoptDecoder } from 'three/examples/jsm/libs/meshopt_decoder.module.js'
import { GLTFLoader } from 'three/examples/jsm/loaders/GLTFLoader.js'
import type { MeshBVH } from 'three-mesh-bvh'
import { dropFrom } from '@/bench/viewer/dispose'
import {
  setFigures,
  setLook,
  setMarks,
  surfaceMaterial,
  type ColourLook,
  type FigureScale,
} from '@/bench/viewer/layers/surfaceMaterial'
import type { MarkCloud } from '@/lib/blocks'
import { Over } from '@/bench/viewer/layers/Over'
import { showsPoints, type Layer, type Place, type Sight, type ViewStyle } from '@/bench/viewer/layers/Layer'

type Part = THREE.Mesh<THREE.BufferGeometry, THREE.MeshStandardMaterial>
/** Builds the tree that a surface is asked by, elsewhere than in the thread that draws. */
export type BuildTree = (geometry: THREE.BufferGeometry) => Promise<MeshBVH | null>

/** The fused surface, with texture or colours, its made-up part apart, and its wires. */
export class Surface implements Layer {
  readonly object = new THREE.Group()
  private readonly parts = new THREE.Group()
  private readonly wires = new THREE.Group()
  /** Of each part the triangles whose marks changed since it was drawn. */
  private readonly overs = new Map<Part, Over>()
  private look: ColourLook | null = null
  private roughness = 0.9
  /** How many pixels the picture is wide, where the curtain is measured. */
  private widthPx = 0
  /** A picture laid on the surface in place of its colour. */
  private overlay: THREE.Texture | null = null
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
    if (this.overlay) this.lay(null)
    if (this.look) this.adjust(this.look)
    this.shine(this.roughness)
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
    for (const over of this.overs.values()) {
      over.object.removeFromParent()
      over.dispose()
    }
    this.overs.clear()
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
    for (const part of this.parts.children as Part[]) {
      const changed = setMarks(part.geometry, flags)
      if (changed && part.geometry.index) this.overOf(part).add(changed)
    }
  }
  private overOf(part: Part): Over {
    const over = this.overs.get(part) ?? new Over(part)
    this.overs.set(part, over)
    this.object.add(over.object)
    return over
  }
  /** Make ready what is to be drawn over a picture that stands; false when all is to be drawn anew. */
  readyOver(): boolean {
    return this.object.visible && [...this.overs.values()].every((over) => over.ready())
  }
  /** It was drawn as its marks are now. */
  drawn() {
    for (const over of this.overs.values()) over.clear()
  }
  /** Show a figure (mm) of every vertex as colour, or none any more. */
  figures(values: Float32Array | null, scale: FigureScale) {
    for (const part of this.parts.children as Part[]) setFigures(part, values, scale)
  }
  /** Show the colour adjusted, or as laid. */
  adjust(look: ColourLook | null, widthPx = this.widthPx) {
    this.look = look
    this.widthPx = widthPx
    for (const part of this.parts.children as Part[]) setLook(part, this.overlay ? null : look, this.widthPx)
  }
  /** How matt it is drawn. */
  shine(roughness: number) {
    this.roughness = roughness
    for (const part of this.parts.children as Part[]) part.material.roughness = roughness
  }
  /** Lay a picture of the size of the texture on the surface in place of its colour, or take it off. */
  lay(picture: THREE.Texture | null) {
    this.overlay?.dispose()
    this.overlay = picture
    for (const part of this.parts.children as Part[]) part.userData.overlay = picture
    this.adjust(this.look)
  }
  /** Where on the texture a ray meets the surface, as shares of its sides from the upper left. */
  texelAt(sight: Sight): [number, number] | null {
    const hit = this.hit(sight)
    return hit && texelOf(hit.part, hit.found)
  }
  /** The sRGB colour (0-255) laid around where a ray meets the surface: the median of what lies there, or null. */
  colourAt(sight: Sight): [number, number, number] | null {
    const hit = this.hit(sight)
    if (!hit) return null
    const { part, found } = hit
    const map = part.userData.map as THREE.Texture | null
    const texel = texelOf(part, found)
    if (map && texel) return medianAround(map, texel)
    const colours = part.geometry.getAttribute('_srgb')
    if (!colours || !found.face) return null
    return [0, 1, 2].map((c) => 255 * colours.getComponent(found.face!.a, c)) as [number, number, number]
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
  pick(sight: Sight): (Place & { distance: number }) | null {
    const hit = this.object.visible ? this.hit(sight) : null
    if (!hit) return null
    const { part, found } = hit
    return {
      distance: found.distance,
      place: found.point.toArray(),
      normal: found.face!.normal.clone().transformDirection(part.matrixWorld).toArray(),
      pass: null,
      frame: null,
      pixel: null,
    }
  }
  measure(box: THREE.Box3) {
    if (this.object.visible) for (const part of this.parts.children) box.expandByObject(part, false)
  }
  dispose() {
    this.clear()
  }
  /** The first part that a ray meets, and where. */
  private hit({ ray }: Sight): { part: Part; found: THREE.Intersection } | null {
    const caster = new THREE.Raycaster(ray.origin, ray.direction)
    let best: { part: Part; found: THREE.Intersection } | null = null
    for (const part of this.parts.children as Part[]) {
      part.updateMatrixWorld()
      const found = part.userData.tree ? castByTree(part, caster) : caster.intersectObject(part, false)[0]
      if (found && found.distance < (best?.found.distance ?? Infinity)) best = { part, found }
    }
    return best
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
  const { madeUp, overlay } = part.userData as { madeUp: boolean; overlay?: THREE.Texture | null }
  const map = overlay ?? (part.userData.map as THREE.Texture | null)
  const showColour = mode === 'colour' && textured
  material.map = showColour ? map : null
  material.vertexColors = showColour && !map && !!part.geometry.attributes.color
  const plain = mode === 'made-up' ? (madeUp ? '#c98a24' : '#4d6f93') : '#b9b3a6'
  material.color.set(showColour && (map || material.vertexColors) ? '#ffffff' : plain)
  material.needsUpdate = true
}

/** Where on the texture a place of a part lies, as shares of its sides from the upper left, or null without one. */
function texelOf(part: Part, { face, point }: THREE.Intersection): [number, number] | null {
  const { position, uv } = part.geometry.attributes
  if (!uv || !face) return null
  const corners = [face.a, face.b, face.c]
  const [a, b, c] = corners.map((n) => new THREE.Vector3().fromBufferAttribute(position, n))
  const share = new THREE.Vector3()
  THREE.Triangle.getBarycoord(part.worldToLocal(point.clone()), a, b, c, share)
  const shares = share.toArray()
  const at = (axis: 'getX' | 'getY') => corners.reduce((sum, n, k) => sum + shares[k] * uv[axis](n), 0)
  return [at('getX'), at('getY')]
}
const AROUND = 0.004 // of the texture: what the colour at a place is told by

/** The median colour of a square of a texture around a place. */
function medianAround(map: THREE.Texture, [x, y]: [number, number]): [number, number, number] {
  const image = map.image as ImageBitmap
  const side = Math.max(Math.round(AROUND * image.width), 3)
  const canvas = new OffscreenCanvas(side, side)
  const pen = canvas.getContext('2d')!
  pen.drawImage(image, side / 2 - x * image.width, side / 2 - y * image.height)
  const { data } = pen.getImageData(0, 0, side, side)
  return [0, 1, 2].map((c) => {
    const values = data.filter((_, n) => n % 4 === c).sort()
    return values[values.length >> 1]
  }) as [number, number, number]
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
