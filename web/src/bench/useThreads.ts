import * as THREE from 'three'
import { watch, type Ref } from 'vue'
import type { BenchContext } from '@/bench/context'
import { letterOf, matchingPart } from '@/bench/stages/align/matching'
import { between } from '@/bench/viewer/motions'
import type { ViewState } from '@/bench/viewer/camera'

const GAP = 1.08 // of both widths that the sides lie apart

/** While spots are tied the pass that is placed lies beside the others, turned by itself, and threads run across. */
export function useThreads(context: BenchContext, state: Ref<ViewState>) {
  const { view } = context
  const part = matchingPart(context)
  let laid: { pass: number; motion: THREE.Matrix4 } | null = null

  function lay() {
    const viewer = view.viewer.value
    if (!viewer) return
    const pass = part.active.value ? part.moving.value : -1
    // Nothing is laid, and nothing was: drawing anew would ask for the next drawing, without end.
    if (pass < 0 && !laid) return
    if (laid && laid.pass !== pass) viewer.points.lay(laid.pass, null)
    const motion = pass < 0 ? null : beside(viewer, pass)
    const first = !!motion && laid?.pass !== pass
    const same = !!motion && laid?.pass === pass && laid.motion.equals(motion)
    laid = motion ? { pass, motion } : null
    if (same) return drawThreads()
    if (motion) viewer.points.lay(pass, motion)
    // Both sides come into sight when they are laid apart for the first time, however late the points came.
    if (first) viewer.frameAll()
    viewer.ask()
    drawThreads()
  }
  /** The motion that shows a pass to the right of the others as the eye stands now. */
  function beside(viewer: NonNullable<typeof view.viewer.value>, pass: number): THREE.Matrix4 | null {
    const own = viewer.points.sphere(pass)
    const others = viewer.points.sphereOfOthers(pass)
    if (!own) return null
    const [right, up, back] = [0, 1, 2].map((k) =>
      new THREE.Vector3().setFromMatrixColumn(viewer.camera.matrixWorld, k),
    )
    const turn = new THREE.Quaternion()
    part.turned.value.forEach((degrees, k) =>
      turn.premultiply(
        new THREE.Quaternion().setFromAxisAngle([right, up, back][k], THREE.MathUtils.degToRad(degrees)),
      ),
    )
    const goal = (others?.center ?? own.center)
      .clone()
      .addScaledVector(right, GAP * (own.radius + (others?.radius ?? own.radius)))
    return new THREE.Matrix4()
      .makeTranslation(goal.x, goal.y, goal.z)
      .multiply(new THREE.Matrix4().makeRotationFromQuaternion(turn))
      .multiply(new THREE.Matrix4().makeTranslation(-own.center.x, -own.center.y, -own.center.z))
  }
  function drawThreads() {
    const viewer = view.viewer.value
    if (!viewer) return
    const at = (place: number[], motion?: THREE.Matrix4) => {
      const spot = new THREE.Vector3().fromArray(place)
      return viewer.project(motion ? spot.applyMatrix4(motion) : spot)
    }
    viewer.lines.threads(
      (part.active.value ? part.threads.value : []).map(({ fixed, moving }, n) => ({
        ends: [...(fixed ? [at(fixed)] : []), ...(moving ? [at(moving, laid?.motion)] : [])],
        letter: letterOf(n),
        off: part.judged.value[n]?.used === false,
        ...offerOf(n, at),
      })),
    )
  }
  function offerOf(n: number, at: (place: number[], motion?: THREE.Matrix4) => [number, number]) {
    const offer = part.offered.value
    if (offer?.thread !== n) return {}
    return { offer: at(offer.spot, offer.side === 'moving' ? laid?.motion : undefined) }
  }
  /** How the pass would lie, in a small picture of its own. */
  function showFit() {
    const viewer = view.viewer.value
    if (!viewer) return
    const { fit, now } = part
    const motion = part.active.value && fit.value && now.value ? between(now.value, fit.value) : null
    viewer.inset.show(part.moving.value, motion)
    viewer.ask()
  }
  watch([part.active, part.moving, part.turned, state], lay)
  watch([part.threads, part.judged, part.offered], drawThreads)
  watch([part.active, part.fit, part.now], showFit)
}
