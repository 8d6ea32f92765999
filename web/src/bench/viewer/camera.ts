import * as THREE from 'three'
import type { OrbitControls } from 'three/examples/jsm/controls/OrbitControls.js'
import type { ViewJson } from '@/bench/viewer/tools/Tool'

/** What the overlays need to know after every frame that was drawn. */
export interface ViewState {
  azimuth: number
  elevation: number
  mmPerPixel: number
}

/** A camera that stands upright, z up. */
export function makeCamera(): THREE.PerspectiveCamera {
  const camera = new THREE.PerspectiveCamera(30, 1, 1, 20000)
  camera.up.set(0, 0, 1)
  camera.position.set(-160, -300, 120)
  return camera
}

/** Put a box in view, from the direction one looks from already. */
export function frameBox(camera: THREE.PerspectiveCamera, controls: OrbitControls, box: THREE.Box3) {
  if (box.isEmpty()) return
  const middle = box.getCenter(new THREE.Vector3())
  const radius = box.getSize(new THREE.Vector3()).length() / 2
  const away = (radius / Math.sin(THREE.MathUtils.degToRad(camera.fov / 2))) * 1.02
  const direction = camera.position.clone().sub(controls.target).normalize()
  controls.target.copy(middle)
  camera.position.copy(middle).addScaledVector(direction, away)
  camera.near = away / 100
  camera.far = away * 20
  camera.updateProjectionMatrix()
  controls.update()
}

/** Look from a compass direction and height (radians); azimuth 0 is the front. */
export function lookFrom(
  camera: THREE.PerspectiveCamera,
  controls: OrbitControls,
  azimuth: number,
  elevation: number,
) {
  const away = camera.position.distanceTo(controls.target)
  const flat = Math.cos(elevation) * away
  camera.position
    .copy(controls.target)
    .add(new THREE.Vector3(Math.sin(azimuth) * flat, -Math.cos(azimuth) * flat, Math.sin(elevation) * away))
  controls.update()
}

/** Fly to a place of what lies in a box, looking at it from outside. */
export function flyTo(
  camera: THREE.PerspectiveCamera,
  controls: OrbitControls,
  box: THREE.Box3,
  place: number[],
) {
  const target = new THREE.Vector3().fromArray(place)
  const out = target.clone().sub(box.getCenter(new THREE.Vector3()))
  if (out.length() < 1e-6) out.set(0, -1, 0.2)
  const away = box.getSize(new THREE.Vector3()).length() * 0.9
  controls.target.copy(target)
  camera.position.copy(target).addScaledVector(out.normalize(), away)
  controls.update()
}

/** Make a place the middle of turning, without moving the eye. */
export function turnAbout(controls: OrbitControls, place: number[]) {
  controls.target.fromArray(place)
  controls.update()
}

export function viewState(camera: THREE.PerspectiveCamera, target: THREE.Vector3, height: number): ViewState {
  const offset = camera.position.clone().sub(target)
  const away = offset.length()
  return {
    azimuth: Math.atan2(offset.x, -offset.y),
    elevation: Math.asin(offset.z / Math.max(away, 1e-9)),
    mmPerPixel: away * pixelAngle(camera, height),
  }
}

/** Size of a pixel at a distance of one. */
export function pixelAngle(camera: THREE.PerspectiveCamera, height: number): number {
  return (2 * Math.tan(THREE.MathUtils.degToRad(camera.fov / 2))) / Math.max(height, 1)
}

/** The ray of sight through a pixel; pixel centres lie at whole numbers. */
export function rayThrough(
  camera: THREE.PerspectiveCamera,
  width: number,
  height: number,
  x: number,
  y: number,
) {
  camera.updateMatrixWorld()
  const ndc = new THREE.Vector2(((x + 0.5) / width) * 2 - 1, 1 - ((y + 0.5) / height) * 2)
  const caster = new THREE.Raycaster()
  caster.setFromCamera(ndc, camera)
  return caster.ray
}

/** The pixel that a place is seen in. */
export function pixelOf(
  camera: THREE.PerspectiveCamera,
  width: number,
  height: number,
  place: THREE.Vector3,
): [number, number] {
  camera.updateMatrixWorld()
  const ndc = place.clone().project(camera)
  return [((ndc.x + 1) / 2) * width - 0.5, ((1 - ndc.y) / 2) * height - 0.5]
}

/** The view as steps keep it: it looks along +Z, x right, y down, where a camera of three looks along −Z with y up. */
export function viewJson(camera: THREE.PerspectiveCamera, width: number, height: number): ViewJson {
  camera.updateMatrixWorld()
  const m = camera.matrixWorldInverse.elements
  const row = (k: number, sign: number) => [m[k], m[k + 4], m[k + 8], m[k + 12]].map((v) => sign * v)
  return {
    T_view_object: [row(0, 1), row(1, -1), row(2, -1), [0, 0, 0, 1]],
    fov_deg: camera.fov,
    width,
    height,
  }
}
