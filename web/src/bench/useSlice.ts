import * as THREE from 'three'
import { computed, ref, watch } from 'vue'
import type { BenchContext } from '@/bench/context'

export const AXES = ['x', 'y', 'z'] as const
export type Axis = (typeof AXES)[number]
const STEPS = 200 // of the wheel, through the whole object

/** The plane that slices all passes: across an axis of the object, and how far along it. */
export function slicePart({ view }: BenchContext) {
  const axis = ref<Axis>('y')
  const at = ref(0)
  const reach = ref({ from: -1, to: 1 })
  const step = computed(() => Math.max((reach.value.to - reach.value.from) / STEPS, 0.01))
  let begun = false

  function normalOf(name: Axis) {
    return new THREE.Vector3().setComponent(AXES.indexOf(name), 1)
  }
  function across(name: Axis) {
    axis.value = name
    reach.value = view.viewer.value?.reachAlong(normalOf(name)) ?? reach.value
    at.value = (reach.value.from + reach.value.to) / 2
  }
  /** Move the plane by steps. */
  function move(steps: number) {
    at.value = Math.min(Math.max(at.value + steps * step.value, reach.value.from), reach.value.to)
  }
  function show() {
    view.viewer.value?.points.cutAt(normalOf(axis.value), at.value)
    view.viewer.value?.ask()
  }
  watch([axis, at], show)
  watch([view.mode, view.loading], () => {
    if (view.mode.value !== 'slice' || view.loading.value) return
    if (!begun) {
      begun = true
      across(AXES[view.viewer.value?.alongSight() ?? 1])
    }
    show()
  })
  return { axis, at, reach, step, across, move }
}
