import { writeFlags } from '@/bench/viewer/layers/flags'
import * as THREE from 'three'
import { ADJUST } from '@/bench/viewer/layers/adjust.glsl'
import { FAR, MARK, NO_SHIFT, PALE } from '@/bench/viewer/layers/points'

/**
 * How figures become colour: pale at nothing and ochre from `range` (mm) on, or with `thin` the other way round. With a
 * `band` (mm) both sides have a colour of their own, blue inside and ochre outside, and what lies within it none.
 */
export interface FigureScale {
  range: number
  thin: boolean
  band?: number
}
/** How the laid colour is shown: the core's numbers, and where the curtain hangs before which it is shown as laid. */
export interface ColourLook {
  white: number[] | null
  light: number
  contrast: number
  highlights: number
  shadows: number
  warmth: number
  tint: number
  saturation: number
  gamma: number
  /** As a share of the width; null without a curtain. */
  curtain: number | null
}
const INNER = '#2a5f96' // of what lies inside of a reference; ochre lies outside
type Material = THREE.MeshStandardMaterial
interface Uniforms {
  figured: { value: number }
  range: { value: number }
  thin: { value: number }
  band: { value: number }
  inner: { value: THREE.Color }
  mark: { value: THREE.Color }
  pale: { value: THREE.Color }
  far: { value: THREE.Color }
  adjusting: { value: number }
  curtain: { value: number }
  whiteSeen: { value: THREE.Vector4 }
  toneFirst: { value: THREE.Vector4 }
  toneSecond: { value: THREE.Vector4 }
}

const VERTEX_HEAD = /* glsl */ `
  attribute float marked;
  attribute float figure;
  varying float vMarked;
  varying float vFigure;
`
const FRAGMENT_HEAD =
  /* glsl */ `
  varying float vMarked;
  varying float vFigure;
  uniform float figured;
  uniform float range;
  uniform float thin;
  uniform float band;
  uniform vec3 inner;
  uniform vec3 mark;
  uniform vec3 pale;
  uniform vec3 far;
  uniform float adjusting;
  uniform float curtain;
` + ADJUST
// What is marked is violet with a hatch, what lies inside of another surface is striped: neither needs its colour.
const FRAGMENT = /* glsl */ `
  if (adjusting > 0.5 && gl_FragCoord.x >= curtain) diffuseColor.rgb = adjustedLight(diffuseColor.rgb);
  if (figured > 0.5) {
    float share = clamp(abs(vFigure) / range, 0.0, 1.0);
    if (thin > 0.5) share = 1.0 - share;
    // Where no wall is known there is none: the body is thick, or ends in an edge.
    vec3 unknown = thin > 0.5 ? pale : vec3(0.5);
    diffuseColor.rgb = vFigure < -1e5 ? unknown : mix(pale, far, share);
    if (band >= 0.0 && vFigure > -1e5) {
      float beyond = clamp((abs(vFigure) - band) / max(range - band, 1e-6), 0.0, 1.0);
      diffuseColor.rgb = mix(vec3(0.93), vFigure < 0.0 ? inner : far, abs(vFigure) <= band ? 0.0 : 0.2 + 0.8 * beyond);
    } else if (vFigure < 0.0 && vFigure > -1e5 && mod(gl_FragCoord.x - gl_FragCoord.y, 8.0) < 3.0)
      diffuseColor.rgb *= 1.0 - 0.6 * share;
  }
  if (vMarked > 0.5)
    diffuseColor.rgb = mix(mark, mix(mark, vec3(1.0), 0.6), step(5.0, mod(gl_FragCoord.x + gl_FragCoord.y, 10.0)));
`

/** The material of a surface, which also shows what is marked and a figure of every vertex. */
export function surfaceMaterial(): Material {
  const material = new THREE.MeshStandardMaterial({ roughness: 0.9 })
  const uniforms: Uniforms = {
    figured: { value: 0 },
    range: { value: 1 },
    thin: { value: 0 },
    band: { value: -1 },
    inner: { value: new THREE.Color(INNER) },
    mark: { value: new THREE.Color(MARK) },
    pale: { value: new THREE.Color(PALE) },
    far: { value: new THREE.Color(FAR) },
    adjusting: { value: 0 },
    curtain: { value: 0 },
    whiteSeen: { value: new THREE.Vector4() },
    toneFirst: { value: new THREE.Vector4() },
    toneSecond: { value: new THREE.Vector4() },
  }
  material.userData.uniforms = uniforms
  material.onBeforeCompile = (shader) => {
    Object.assign(shader.uniforms, uniforms)
    shader.vertexShader =
      VERTEX_HEAD +
      shader.vertexShader.replace(
        '#include <begin_vertex>',
        '#include <begin_vertex>\n  vMarked = marked;\n  vFigure = figure;',
      )
    shader.fragmentShader =
      FRAGMENT_HEAD +
      shader.fragmentShader.replace('#include <color_fragment>', `#include <color_fragment>\n${FRAGMENT}`)
  }
  return material
}

/** Show which vertices are marked, by packed flags, or none; which of them changed, or null. */
export function setMarks(geometry: THREE.BufferGeometry, flags: Uint8Array | null): Uint8Array | null {
  let held = geometry.getAttribute('marked') as THREE.BufferAttribute | undefined
  if (!held && flags) {
    held = new THREE.BufferAttribute(new Uint8Array(geometry.attributes.position.count), 1)
    geometry.setAttribute('marked', held)
  }
  return held ? writeFlags(held, flags) : null
}

/** Show a figure of every vertex as colour, or none any more; one that does not fit the surface is not shown. */
export function setFigures(
  part: THREE.Mesh,
  values: Float32Array | null,
  { range, thin, band }: FigureScale,
) {
  const { geometry } = part
  const uniforms = (part.material as Material).userData.uniforms as Uniforms
  const { figured, range: most, thin: turned } = uniforms
  uniforms.band.value = band ?? -1
  const fits = values?.length === geometry.attributes.position.count
  figured.value = fits ? 1 : 0
  most.value = Math.max(range, 1e-6)
  turned.value = thin ? 1 : 0
  if (fits) geometry.setAttribute('figure', new THREE.BufferAttribute(values, 1))
  else geometry.deleteAttribute('figure')
}

/** Show the colour of a part adjusted, with a curtain at a column of pixels, or as laid. */
export function setLook(part: THREE.Mesh, look: ColourLook | null, widthPx: number) {
  const uniforms = (part.material as Material).userData.uniforms as Uniforms
  uniforms.adjusting.value = look ? 1 : 0
  if (!look) return
  uniforms.curtain.value = look.curtain == null ? -1 : Math.round(look.curtain * widthPx)
  const [r, g, b] = look.white ?? [0, 0, 0]
  const seen = new THREE.Color().setRGB(r / 255, g / 255, b / 255, THREE.SRGBColorSpace)
  uniforms.whiteSeen.value.set(seen.r, seen.g, seen.b, look.white ? 1 : 0)
  uniforms.toneFirst.value.set(look.light, look.contrast, look.highlights, look.shadows)
  uniforms.toneSecond.value.set(look.warmth, look.tint, look.saturation, look.gamma)
}

/** Of figures that are known, how large all but a twentieth are at the most. */
export function usualMost(values: Float32Array): number {
  const known = values.filter((v) => v > NO_SHIFT / 2).map(Math.abs)
  known.sort()
  return known[Math.floor(0.95 * (known.length - 1))] ?? 0
}
