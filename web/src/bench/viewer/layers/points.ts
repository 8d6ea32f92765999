import * as THREE from 'three'
import { writeFlags } from '@/bench/viewer/layers/flags'
import { unpack, type TypedArray } from '@/lib/packed'

const VERTEX = /* glsl */ `
  attribute vec3 colour;
  attribute float marked;
  attribute float aside;
  attribute float shift;
  uniform float size;
  uniform float slicing;
  uniform vec4 cut;
  uniform float reach;
  uniform vec3 light;
  varying vec3 tint;
  varying float shade;
  varying float goes;
  varying float scaffold;
  varying float off;
  void main() {
    vec4 place = modelMatrix * vec4(position, 1.0);
    float beyond = 0.0;
    if (slicing > 0.5) {
      // Each point slides along its own surface to where that meets the plane: what is cut is a thin line at any slant.
      vec3 way = normalize(mat3(modelMatrix) * normal);
      vec3 along = cut.xyz - dot(cut.xyz, way) * way;
      float steep = dot(along, along);
      float off = dot(cut.xyz, place.xyz) - cut.w;
      beyond = abs(off) > reach * sqrt(max(steep, 1e-6)) ? 1.0 : 0.0;
      place.xyz -= along * (off / max(steep, 1e-6));
    }
    vec4 at = viewMatrix * place;
    gl_Position = projectionMatrix * at;
    gl_PointSize = clamp(size * projectionMatrix[1][1] / -at.z, 1.0, 12.0);
    vec3 n = normalize(normalMatrix * normal);
    float facing = dot(n, normalize(-at.xyz));
    if (slicing > 0.5) gl_PointSize = 2.0;
    if (beyond > 0.5) gl_Position = vec4(2.0, 2.0, 2.0, 1.0);
    off = shift;
    shade = slicing > 0.5 ? 1.0 : facing < -0.15 ? 0.35 : 0.45 + 0.65 * max(dot(n, light), 0.0);
    tint = colour;
    goes = marked;
    scaffold = aside;
  }
`
// What is marked for removal is violet with a hatch, so that it can be told without its colour.
const FRAGMENT = /* glsl */ `
  uniform vec3 hue;
  uniform vec3 mark;
  uniform float ownColour;
  uniform float shifting;
  uniform float range;
  uniform vec3 pale;
  uniform vec3 far;
  varying vec3 tint;
  varying float off;
  varying float shade;
  varying float goes;
  varying float scaffold;
  void main() {
    // What was set aside is seen as a pale lattice.
    if (scaffold > 0.5 && mod(gl_FragCoord.x, 4.0) > 1.5 && mod(gl_FragCoord.y, 4.0) > 1.5) discard;
    vec3 linear = mix(pow(tint, vec3(2.2)), hue, 1.0 - ownColour);
    if (scaffold > 0.5) linear = mix(linear, vec3(0.8), 0.75);
    if (shifting > 0.5) {
      // Pale to ochre by how far it lies off the others; what lies inside of them is striped.
      float share = clamp(abs(off) / range, 0.0, 1.0);
      linear = off < -1e5 ? vec3(0.42) : mix(pale, far, share);
      if (off < 0.0 && off > -1e5 && mod(gl_FragCoord.x - gl_FragCoord.y, 8.0) < 3.0) linear *= 1.0 - 0.6 * share;
    }
    if (goes > 0.5) {
      float stripe = step(5.0, mod(gl_FragCoord.x + gl_FragCoord.y, 10.0));
      linear = mix(mark, mix(mark, vec3(1.0), 0.6), stripe);
    }
    gl_FragColor = vec4(linear * shade, 1.0);
    #include <colorspace_fragment>
  }
`
export const MARK = '#6f4bb0'
/** Of a point that no other pass saw, in millimetres. */
export const NO_SHIFT = -1e6
export const PALE = '#f1ead8'
export const FAR = '#b3650c'
/** How many spacings a point slides along its surface to where a plane cuts it. */
const SLIDE = 1.2

interface Head {
  count: number
  origin: [number, number, number]
  step: number
  digest: string
}

/** Points of a pass as they are shown, with where each comes from. */
export interface PointsData {
  count: number
  origin: [number, number, number]
  step: number
  digest: string
  positions: Uint16Array
  normals: Int8Array
  /** Usual distance (mm) between neighbouring ones. */
  spacing: number
  frame: Uint16Array
  pixel: Uint32Array
}

/** Read points as the server packs them. */
export function parsePoints(buffer: ArrayBuffer): { data: PointsData; geometry: THREE.BufferGeometry } {
  const { head, arrays } = unpack<Head>(buffer)
  const geometry = new THREE.BufferGeometry()
  const spacing = (arrays.spacing as Float32Array | undefined)?.[0] ?? 1
  const data = { ...head, ...arrays, spacing } as unknown as PointsData
  if (!head.count) return { data, geometry }
  const four = (array: TypedArray) => new THREE.InterleavedBuffer(array, 4)
  geometry.setAttribute('position', new THREE.BufferAttribute(data.positions, 3))
  geometry.setAttribute('normal', new THREE.InterleavedBufferAttribute(four(data.normals), 3, 0, true))
  geometry.setAttribute('colour', new THREE.InterleavedBufferAttribute(four(arrays.colours), 3, 0, true))
  geometry.setAttribute('aside', new THREE.BufferAttribute(arrays.aside ?? new Uint8Array(head.count), 1))
  geometry.setAttribute('shift', new THREE.BufferAttribute(new Float32Array(head.count).fill(NO_SHIFT), 1))
  geometry.setAttribute('marked', new THREE.BufferAttribute(new Uint8Array(head.count), 1))
  return { data, geometry }
}

/** Points to draw, placed in millimetres. */
export function pointsObject(
  buffer: ArrayBuffer,
  hue: string,
): THREE.Points<THREE.BufferGeometry, THREE.ShaderMaterial> {
  const { data, geometry } = parsePoints(buffer)
  const material = new THREE.ShaderMaterial({
    vertexShader: VERTEX,
    fragmentShader: FRAGMENT,
    uniforms: {
      size: { value: 220 },
      hue: { value: new THREE.Color(hue) },
      mark: { value: new THREE.Color(MARK) },
      ownColour: { value: 1 },
      slicing: { value: 0 },
      cut: { value: new THREE.Vector4(0, 0, 1, 0) },
      reach: { value: SLIDE * data.spacing },
      shifting: { value: 0 },
      range: { value: 0.1 },
      pale: { value: new THREE.Color(PALE) },
      far: { value: new THREE.Color(FAR) },
      light: { value: new THREE.Vector3(-0.3, 0.6, 0.7).normalize() },
    },
  })
  const points = new THREE.Points(geometry, material)
  points.scale.setScalar(data.step)
  points.position.fromArray(data.origin)
  points.frustumCulled = false
  points.userData.data = data
  return points
}

/** Mark points by packed flags, or none of them; whether that changed anything. */
export function markPoints(points: THREE.Points, flags: Uint8Array | null): boolean {
  const marked = points.geometry.getAttribute('marked') as THREE.BufferAttribute | undefined
  return !!marked && !!writeFlags(marked, flags)
}

/**
 * The point that a ray passes nearest to, within a few pixels, of those in front; -1 when there is none.
 * Points nearer to the eye win over points nearer to the ray, unless they are hidden from it by a pixel or two.
 */
export function nearestPoint(
  data: PointsData,
  ray: THREE.Ray,
  pixel: number,
  reach = 6,
): { index: number; along: number } {
  const { positions, origin, step, count } = data
  const { origin: eye, direction: d } = ray
  let best = -1
  let nearest = Infinity
  for (let n = 0; n < count; n++) {
    const x = positions[3 * n] * step + origin[0] - eye.x
    const y = positions[3 * n + 1] * step + origin[1] - eye.y
    const z = positions[3 * n + 2] * step + origin[2] - eye.z
    const along = x * d.x + y * d.y + z * d.z
    if (along <= 0) continue
    const aside = Math.sqrt(Math.max(x * x + y * y + z * z - along * along, 0)) / (along * pixel)
    if (aside > reach) continue
    // A pixel aside counts as much as a few pixels' depth: the front surface wins, its nearest point within it.
    const cost = along + aside * along * pixel * 4
    if (cost < nearest) [nearest, best] = [cost, n]
  }
  if (best < 0) return { index: -1, along: Infinity }
  const p = placeOf(data, best)
  return { index: best, along: (p[0] - eye.x) * d.x + (p[1] - eye.y) * d.y + (p[2] - eye.z) * d.z }
}

/** Where a point lies, in millimetres. */
export function placeOf(data: PointsData, n: number): [number, number, number] {
  const at = (k: number) => data.positions[3 * n + k] * data.step + data.origin[k]
  return [at(0), at(1), at(2)]
}
