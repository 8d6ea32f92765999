import * as THREE from 'three'
import { computed, ref, shallowRef, watch } from 'vue'
import type { BenchContext } from '@/bench/context'
import { passToPlace } from '@/bench/stages/align/matching'
import { between, matrixOf, rowsOf } from '@/bench/viewer/motions'

interface Figures {
  /** What is common where it was let go, and where it would snap to. */
  here: number
  overlap: number
  rms_mm: number
  turned_deg: number
  shifted_mm: number
  T_object_pass: number[][]
  common: boolean
}

/** A pass dragged near the others, until it snaps onto them. */
export function snapping({ bench, view, live }: BenchContext) {
  const active = ref(false)
  const wanted = ref('')
  const reach = ref(0)
  const trust = ref(false)
  /** A hand holds the pass. */
  const held = ref(false)
  /** How the object's frame is moved for the pass, as a hand did; null where it lies. */
  const dragged = shallowRef<THREE.Matrix4 | null>(null)

  const passes = computed(() => bench.bench.value?.passes ?? [])
  const moving = computed(() => passToPlace(passes.value, wanted.value))
  const title = computed(() => passes.value[moving.value]?.title ?? '')
  const now = computed(() => passes.value[moving.value]?.T_object_pass)
  const at = computed(() =>
    now.value && dragged.value ? rowsOf(dragged.value.clone().multiply(matrixOf(now.value))) : null,
  )
  const parameters = computed(() => ({
    pass: title.value,
    reach_mm: reach.value,
    ...(at.value ? { at: at.value } : {}),
  }))
  const figures = computed(() =>
    active.value ? ((live.preview.value?.figures as Figures | undefined) ?? null) : null,
  )
  /** How the object's frame is moved for the pass as it is shown: where a hand holds it, or where it snaps to. */
  const shown = computed(() => {
    if (!active.value) return null
    if (held.value || !figures.value || !now.value) return dragged.value
    return between(now.value, figures.value.T_object_pass)
  })

  watch([active, parameters], ([on], [was]) => {
    if (on) live.show('snap', parameters.value)
    else if (was) live.hide('snap')
  })
  watch([view.snapshot, title, active], putBack)

  function putBack() {
    dragged.value = null
    held.value = false
  }
  /** Move the pass by a motion of the object's frame, from where it is shown. */
  function move(by: THREE.Matrix4) {
    dragged.value = by.clone().multiply(dragged.value ?? new THREE.Matrix4())
  }
  /** Take the pass where it is shown. */
  function hold() {
    dragged.value = shown.value?.clone() ?? new THREE.Matrix4()
    held.value = true
  }
  const letGo = () => (held.value = false)
  const use = () => bench.operation('snap', { ...parameters.value, ...(trust.value ? { trust: true } : {}) })
  return {
    active,
    wanted,
    reach,
    trust,
    held,
    dragged,
    moving,
    title,
    figures,
    shown,
    parameters,
    putBack,
    move,
    hold,
    letGo,
    use,
  }
}
export const snappingPart = (context: BenchContext) => context.part('snapping', snapping)
