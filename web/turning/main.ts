/**
 * The script of a turning page: shows the GLB that the page holds and turns it, with nothing fetched from anywhere.
 * It is built into one file that delivery puts into the page.
 */
import * as THREE from 'three'
import { OrbitControls } from 'three/examples/jsm/controls/OrbitControls.js'
import { GLTFLoader } from 'three/examples/jsm/loaders/GLTFLoader.js'

const TURN_S = 14 // for a whole turn by itself
const KEY_TURN = Math.PI / 24
const NEARER = 1.12

async function show(host: HTMLElement, encoded: string) {
  const bytes = Uint8Array.from(atob(encoded.trim()), (c) => c.charCodeAt(0))
  const { scene: object } = await new GLTFLoader().parseAsync(bytes.buffer, '')
  const box = new THREE.Box3().setFromObject(object)
  const middle = box.getCenter(new THREE.Vector3())
  const reach = box.getBoundingSphere(new THREE.Sphere()).radius
  const renderer = new THREE.WebGLRenderer({ antialias: true, alpha: true })
  renderer.setPixelRatio(Math.min(window.devicePixelRatio, 2))
  host.append(renderer.domElement)
  const camera = new THREE.PerspectiveCamera(30, 1, reach / 50, reach * 50)
  camera.position.copy(middle).add(new THREE.Vector3(0, 0.28, 1).setLength(reach / Math.sin(Math.PI / 13)))
  const scene = new THREE.Scene()
  const lamp = new THREE.DirectionalLight('#ffffff', 1.9)
  lamp.position.set(-0.6, 0.8, 0.7)
  camera.add(lamp)
  scene.add(new THREE.HemisphereLight('#ffffff', '#b9ad98', 1.5), camera, object)
  const controls = new OrbitControls(camera, renderer.domElement)
  controls.target.copy(middle)
  controls.autoRotate = !matchMedia('(prefers-reduced-motion: reduce)').matches
  controls.autoRotateSpeed = 60 / TURN_S
  controls.enablePan = false
  controls.minDistance = reach * 1.2
  controls.maxDistance = reach * 20

  function fit() {
    renderer.setSize(host.clientWidth, host.clientHeight)
    camera.aspect = host.clientWidth / Math.max(host.clientHeight, 1)
    camera.updateProjectionMatrix()
  }
  const away = () => camera.position.clone().sub(middle)
  const acts: Record<string, () => void> = {
    ArrowLeft: () => turn(-KEY_TURN),
    ArrowRight: () => turn(KEY_TURN),
    ArrowUp: () => lift(-KEY_TURN),
    ArrowDown: () => lift(KEY_TURN),
    '+': () => camera.position.copy(middle).add(away().divideScalar(NEARER)),
    '-': () => camera.position.copy(middle).add(away().multiplyScalar(NEARER)),
    ' ': () => (controls.autoRotate = !controls.autoRotate),
  }
  const turn = (by: number) =>
    camera.position.copy(middle).add(away().applyAxisAngle(new THREE.Vector3(0, 1, 0), by))
  function lift(by: number) {
    const at = new THREE.Spherical().setFromVector3(away())
    at.phi = Math.min(Math.max(at.phi + by, 0.05), Math.PI - 0.05)
    camera.position.copy(middle).add(new THREE.Vector3().setFromSpherical(at))
  }
  host.addEventListener('keydown', (e) => {
    if (!acts[e.key]) return
    e.preventDefault()
    acts[e.key]()
  })
  addEventListener('resize', fit)
  fit()
  const clock = new THREE.Clock()
  renderer.setAnimationLoop(() => {
    controls.update(clock.getDelta())
    renderer.render(scene, camera)
  })
}

const host = document.getElementById('view')!
show(host, document.getElementById('mesh')!.textContent!).catch((fault: unknown) => {
  host.textContent = `This page cannot show its object here: ${fault instanceof Error ? fault.message : String(fault)}`
})
