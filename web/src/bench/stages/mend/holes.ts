import { computed, ref, shallowRef, watch } from 'vue'
import { fetchGeometry, LatestOnly } from '@/api/geometry'
import type { BenchContext } from '@/bench/context'
import type { Patch } from '@/bench/viewer/layers/Patches'
import type { RimPlaces } from '@/bench/viewer/layers/Rims'
import { unpack } from '@/lib/packed'
import { token } from '@/lib/tokens'

/** A hole as the server tells it; lengths in millimetres. */
export interface Hole {
  length_mm: number
  size_mm: number
  area_mm2: number
  flat: boolean
  at: [number, number, number]
}

/** The holes of the mesh, which of them are to be closed, and their rims in the view. */
export function holesPart({ bench, view, live }: BenchContext) {
  const holes = shallowRef<Hole[]>([])
  const taken = ref<boolean[]>([])
  /** Strips that are laid across first, each from a place to another, and where the next one begins. */
  const bridges = ref<number[][]>([])
  const begun = ref<{ rim: number; place: number[] } | null>(null)
  const refused = ref('')
  const open = ref(false)
  const loading = ref(false)
  const fault = ref('')
  const asked = new LatestOnly()
  let places: RimPlaces | null = null
  const chosen = computed(() => taken.value.filter(Boolean).length)
  /** Holes that an earlier closing left open on purpose stay so until somebody takes them. */
  const meant = computed(() => {
    const last = bench.doneBy.value.patch_holes?.parameters as { leave?: number[][] } | undefined
    return last?.leave ?? []
  })

  async function load() {
    const snapshot = view.snapshot.value
    if (!open.value || !snapshot || !bench.bench.value?.mesh) return
    loading.value = true
    fault.value = ''
    await asked
      .run(
        (signal) => fetchGeometry(`/api/snapshots/${snapshot}/rims`, signal),
        (answer) => {
          const { head, arrays } = unpack<{ holes: Hole[] }>(answer)
          holes.value = head.holes
          places = { places: arrays.places as Float32Array, begins: arrays.begins as Uint32Array }
          taken.value = head.holes.map((hole) => !meant.value.some((at) => isThere(hole, at)))
        },
      )
      .catch((e) => (fault.value = e instanceof Error ? e.message : String(e)))
    loading.value = false
  }
  function draw() {
    const { rims, ask } = view.viewer.value ?? {}
    if (!rims || !ask) return
    if (open.value && places && holes.value.length)
      rims.set(places, taken.value, bridges.value, { taken: token('mark'), left: token('ochre-ink') })
    else rims.clear()
    ask()
  }
  watch([open, view.snapshot], () => {
    places = null
    holes.value = []
    unbridge()
    draw()
    void load()
  })
  watch([taken, holes, bridges], draw, { deep: true })

  const how = ref('curved')
  /** Whether the patches are shown before they are there, and what is told of them then. */
  const shown = ref(false)
  const parameters = () => ({
    how: how.value,
    bridges: bridges.value.flatMap((ends) => [ends.slice(0, 3), ends.slice(3)]),
    leave: holes.value.filter((_, n) => !taken.value[n]).map((hole) => hole.at),
  })
  const patches = computed(() =>
    open.value && shown.value ? live.preview.value?.layers.find((l) => l.kind === 'patch') : undefined,
  )
  const told = computed(
    () =>
      (patches.value ? live.preview.value?.figures : undefined) as
        { area_mm2: number; spanned_flat: number } | undefined,
  )
  watch(
    [open, shown, taken, bridges, how],
    () => {
      if (open.value && shown.value && chosen.value) live.show('patch_holes', parameters())
      else live.hide('patch_holes')
    },
    { deep: true },
  )
  watch(patches, (layer) => {
    const { patches: drawn, ask } = view.viewer.value ?? {}
    if (!drawn || !ask) return
    if (layer) drawn.set(layer.arrays as unknown as Patch, token('mark'))
    else drawn.clear()
    ask()
  })

  /** A click on a rim begins a strip, the next one on the same rim ends it. */
  function tie(rim: number, place: number[]) {
    refused.value = ''
    if (!begun.value) begun.value = { rim, place }
    else if (begun.value.rim !== rim) refused.value = 'A strip ends at the hole where it begins.'
    else {
      bridges.value = [...bridges.value, [...begun.value.place, ...place]]
      begun.value = null
    }
  }
  function unbridge() {
    bridges.value = []
    begun.value = null
    refused.value = ''
  }
  const turn = (n: number) => (taken.value[n] = !taken.value[n])
  const all = (on: boolean) => (taken.value = holes.value.map(() => on))
  const invert = () => (taken.value = taken.value.map((on) => !on))
  const under = (size: number) => (taken.value = holes.value.map((hole) => hole.size_mm < size))
  /** Close those that are taken. */
  const close = () => bench.operation('patch_holes', parameters())
  return {
    holes,
    taken,
    chosen,
    bridges,
    begun,
    refused,
    open,
    loading,
    fault,
    how,
    shown,
    told,
    tie,
    unbridge,
    turn,
    all,
    invert,
    under,
    close,
  }
}

/** Whether a hole is the one that was left open at a place. */
const isThere = (hole: Hole, at: number[]) =>
  Math.hypot(...hole.at.map((v, k) => v - at[k])) < Math.max(hole.size_mm / 4, 0.05)
