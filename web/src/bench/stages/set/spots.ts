import { computed, reactive, ref, watch } from 'vue'
import type { BenchContext } from '@/bench/context'
import type { Place } from '@/bench/viewer/layers/Layer'

export type Spot = [number, number, number]
/** What places are picked for; each keeps its own. */
export type Role = 'level' | 'front' | 'centre' | 'scale' | 'measure'
const MOST: Record<Role, number> = { level: 3, front: 1, centre: 1, scale: 2, measure: 12 }
export const SPOT = 'spot'

/** Places picked in the view, for the card that asks for them just now. */
export function spots({ view }: BenchContext) {
  const role = ref<Role | null>(null)
  const most = ref(0)
  const picked = reactive<Record<Role, Spot[]>>({ level: [], front: [], centre: [], scale: [], measure: [] })
  const shown = computed(() => (role.value ? picked[role.value] : []))
  let commit: (() => void) | null = null

  /** Ask for places; Enter then does what is given. */
  function ask(next: Role, enter: () => void, wanted = MOST[next]) {
    role.value = next
    most.value = wanted
    commit = enter
    picked[next] = picked[next].slice(0, wanted)
  }
  function leave() {
    role.value = null
    commit = null
    if (view.tool.value?.name === SPOT) view.use(null)
  }
  /** One more; beyond as many as are wanted the last one is replaced. */
  function take(place: Place | null) {
    if (!place || !role.value) return
    picked[role.value] = [...picked[role.value].slice(0, most.value - 1), place.place]
  }
  function stepBack() {
    if (role.value) picked[role.value] = picked[role.value].slice(0, -1)
  }
  function clear() {
    if (role.value) picked[role.value] = []
  }
  // A surface that was moved or scaled has its places elsewhere.
  watch(view.snapshot, () => Object.keys(picked).forEach((name) => (picked[name as Role] = [])))
  return { role, most, picked, shown, ask, leave, take, stepBack, clear, enter: () => commit?.() }
}
export const spotsPart = (context: BenchContext) => context.part('spots', spots)
export const apart = ([a, b]: Spot[]) => Math.hypot(a[0] - b[0], a[1] - b[1], a[2] - b[2])
