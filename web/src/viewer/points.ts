import * as THREE from 'three'

const VERTEX = /* glsl */ `
  attribute vec3 colour;
  uniform float size;
  uniform vec3 light;
  varying vec3 tint;
  varying float shade;
  void main() {
    vec4 at = modelViewMatrix * vec4(position, 1.0);
    gl_Position = projectionMatrix * at;
    gl_PointSize = clamp(size * projectionMatrix[1][1] / -at.z, 1.0, 12.0);
    vec3 n = normalize(normalMatrix * normal);
    float facing = dot(n, normalize(-at.xyz));
    shade = facing < -0.15 ? 0.35 : 0.45 + 0.65 * max(dot(n, light), 0.0);
    tint = colour;
  }
`
const FRAGMENT = /* glsl */ `
  uniform vec3 hue;
  uniform float ownColour;
  varying vec3 tint;
  varying float shade;
  void main() {
    vec3 linear = mix(pow(tint, vec3(2.2)), hue, 1.0 - ownColour);
    gl_FragColor = vec4(linear * shade, 1.0);
    #include <colorspace_fragment>
  }
`

/** Points as the server packs them: head, u16 positions, i8 normals, u8 sRGB colours. */
export function parsePoints(buffer: ArrayBuffer): THREE.BufferGeometry & { userData: { count: number } } {
  const headLength = new DataView(buffer).getUint32(0, true)
  const head = JSON.parse(new TextDecoder().decode(new Uint8Array(buffer, 4, headLength)))
  const geometry = new THREE.BufferGeometry() as THREE.BufferGeometry & { userData: { count: number } }
  geometry.userData = { ...head }
  if (!head.count) return geometry
  let at = 4 + headLength
  const positions = new Uint16Array(buffer, at, head.count * 3)
  at += Math.ceil((head.count * 6) / 4) * 4
  const normals = new THREE.InterleavedBuffer(new Int8Array(buffer, at, head.count * 4), 4)
  at += head.count * 4
  const colours = new THREE.InterleavedBuffer(new Uint8Array(buffer, at, head.count * 4), 4)
  geometry.setAttribute('position', new THREE.BufferAttribute(positions, 3))
  geometry.setAttribute('normal', new THREE.InterleavedBufferAttribute(normals, 3, 0, true))
  geometry.setAttribute('colour', new THREE.InterleavedBufferAttribute(colours, 3, 0, true))
  return geometry
}

/** Points to draw, placed in millimetres. */
export function pointsObject(buffer: ArrayBuffer, hue: string): THREE.Points {
  const geometry = parsePoints(buffer)
  const { origin, step } = geometry.userData as unknown as { origin: number[]; step: number }
  const material = new THREE.ShaderMaterial({
    vertexShader: VERTEX,
    fragmentShader: FRAGMENT,
    uniforms: {
      size: { value: 220 },
      hue: { value: new THREE.Color(hue) },
      ownColour: { value: 1 },
      light: { value: new THREE.Vector3(-0.3, 0.6, 0.7).normalize() },
    },
  })
  const points = new THREE.Points(geometry, material)
  points.scale.setScalar(step)
  points.position.fromArray(origin)
  points.frustumCulled = false
  return points
}
