import { computed, ref, shallowRef, watch } from 'vue'
import type { BenchContext } from '@/bench/context'
import { edited, untouched, type Plane, type PlaneEdit } from '@/bench/planeEdit'
import type { HandleKind } from '@/bench/viewer/layers/Planes'
import { token } from '@/lib/tokens'
import { useTheme } from '@/stores/theme'

/** What is told of how the object would stand. */
export interface Standing {
  up_from: string
  tilted_deg: number
  size_mm: number[]
}

/** The floor that the object would stand on, shown before it does, and tilted by hand. */
export function standing({ view, live }: BenchContext) {
  /** What the card would stand it up with; null while there is no such card. */
  const asked = shallowRef<Record<string, unknown> | null>(null)
  /** The floor as a hand tilted it. */
  const plane = shallowRef<Plane | null>(null)
  const held = ref<PlaneEdit | null>(null)
  /** What Enter does while the tool is on: what the card is for. */
  const enter = shallowRef<(() => void) | null>(null)
  const theme = useTheme()
  const layer = computed(() =>
    asked.value ? live.preview.value?.layers.find((l) => l.kind === 'plane' && l.pass === '') : undefined,
  )
  const told = computed(() =>
    layer.value ? (live.preview.value?.figures as unknown as Standing) : undefined,
  )
  watch(asked, (now) => (now ? live.show('stand_up', now) : live.hide('stand_up')))
  watch([layer, held, () => theme.dark], draw, { deep: true })

  function draw() {
    const viewer = view.viewer.value
    if (!viewer) return
    const corners = held.value ? edited(held.value).corners : layer.value?.arrays.corners
    viewer.planes.set(corners ? [{ name: 'floor', corners: corners as Float32Array, chosen: true }] : [], {
      sheet: token('ink'),
      chosen: token('verdigris'),
    })
    viewer.ask()
  }
  const begun = () => (layer.value ? untouched(layer.value.plane as Plane, layer.value.arrays.corners) : null)
  /** A handle is dragged; let go, the floor is laid under the object as it was tilted. */
  function drag(kind: HandleKind, amount: number, end: boolean) {
    held.value ??= begun()
    if (!held.value) return
    held.value[kind] = amount
    if (!end) return
    if (kind !== 'push') plane.value = edited(held.value).plane
    held.value = null
  }
  /** Tilt the floor by so many degrees, without a pointer. */
  function tilt(kind: 'across' | 'along', degrees: number) {
    const edit = begun()
    if (edit) plane.value = edited({ ...edit, [kind]: degrees }).plane
  }
  /** The floor as it is shown just now becomes the one that is tilted. */
  function keep() {
    plane.value ??= (layer.value?.plane as Plane | undefined) ?? null
  }
  return { asked, plane, told, drag, tilt, keep, enter }
}
