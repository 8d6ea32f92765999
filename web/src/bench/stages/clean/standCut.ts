import { computed, reactive, ref, shallowRef, watch } from 'vue'
import type { BenchContext } from '@/bench/context'
import { edited, untouched, type Plane, type PlaneEdit } from '@/bench/planeEdit'
import { shownTitles } from '@/bench/useView'
import type { HandleKind } from '@/bench/viewer/layers/Planes'
import type { LineJson } from '@/bench/viewer/tools/DrawLine'
import { token } from '@/lib/tokens'
import { useTheme } from '@/stores/theme'

/** What a preview says of one pass. */
export interface CutFigures {
  pass: string
  by: 'found' | 'hand' | 'line' | 'none'
  plane?: Plane
  above_mm?: number
  points_before: number
  points_after: number
  why?: string
}
type Tilted = Pick<PlaneEdit, HandleKind>
const LARGEST_TILT_DEG = 85

/** The stand cut that a hand prepares: planes found, drawn or pushed, until it is made a step. */
export function standCut({ bench, view, live }: BenchContext) {
  const above = ref(0)
  const line = shallowRef<LineJson | null>(null)
  const edits = reactive<Record<string, PlaneEdit>>({})
  const chosen = ref('')
  const active = ref(false)
  const theme = useTheme()
  let dragFrom: Tilted | null = null

  const passes = computed(() => bench.bench.value?.passes ?? [])
  /** The shown passes, or none named when all are shown. */
  const shown = computed(() => shownTitles(passes.value, view.hidden.value))
  const parameters = computed(() => {
    const planes = Object.entries(edits).map(([title, edit]) => {
      const [x, y, z, d] = edited(edit).plane
      return [title, [x, y, z, d - above.value]]
    })
    return {
      above_mm: above.value,
      planes: planes.length ? Object.fromEntries(planes) : null,
      line: line.value,
      passes: shown.value,
    }
  })
  const figures = computed(() => (live.preview.value?.figures.passes ?? []) as CutFigures[])
  const before = computed(() => figures.value.reduce((t, p) => t + p.points_before, 0))
  const after = computed(() => figures.value.reduce((t, p) => t + p.points_after, 0))
  const current = computed(() => figures.value.find((p) => p.pass === chosen.value))

  watch(figures, (list) => {
    if (!list.some((p) => p.pass === chosen.value && p.by !== 'none'))
      chosen.value = list.find((p) => p.by !== 'none')?.pass ?? ''
  })
  watch([active, parameters], ([on, now]) => (on ? live.show('stand_cut', now) : live.hide('stand_cut')))
  watch([figures, chosen, edits, active, () => theme.dark], drawPlanes, { flush: 'post' })

  /** Planes move under the hand at once; what is marked follows from the service. */
  function drawPlanes() {
    const planes = view.viewer.value?.planes
    const layers = (live.preview.value?.layers ?? []).filter((l) => l.kind === 'plane')
    planes?.set(
      (active.value ? layers : []).map((layer) => ({
        name: layer.pass!,
        corners: edits[layer.pass!]
          ? edited(edits[layer.pass!]).corners
          : (layer.arrays.corners as Float32Array),
        chosen: layer.pass === chosen.value,
      })),
      { sheet: token('ink'), chosen: token('verdigris') },
    )
    view.viewer.value?.ask()
  }
  /** The edit of the chosen pass, begun from where its plane is now. */
  function editOfChosen(): PlaneEdit | null {
    const layer = live.preview.value?.layers.find((l) => l.kind === 'plane' && l.pass === chosen.value)
    const now = current.value
    if (!edits[chosen.value] && layer && now?.plane) {
      const [x, y, z, d] = now.plane
      edits[chosen.value] = untouched([x, y, z, d + now.above_mm!], layer.arrays.corners)
    }
    return edits[chosen.value] ?? null
  }
  function change(part: Partial<Tilted>) {
    const edit = editOfChosen()
    if (!edit) return
    Object.assign(edit, part)
    for (const k of ['across', 'along'] as const)
      edit[k] = Math.min(Math.max(edit[k], -LARGEST_TILT_DEG), LARGEST_TILT_DEG)
  }
  function drag(kind: HandleKind, amount: number, end: boolean) {
    const edit = editOfChosen()
    if (!edit) return
    dragFrom ??= { push: edit.push, across: edit.across, along: edit.along }
    change({ [kind]: dragFrom[kind] + amount })
    if (end) dragFrom = null
  }
  function flip() {
    const edit = editOfChosen()
    if (edit) edit.flipped = !edit.flipped
  }
  function draw(drawn: LineJson) {
    reset()
    line.value = drawn
  }
  /** Back to what is found by itself. */
  function reset() {
    for (const title of Object.keys(edits)) delete edits[title]
    line.value = null
    above.value = 0
  }
  async function use() {
    const now = parameters.value
    await bench.operation('stand_cut', now)
    reset()
  }
  /** Begin with what an earlier cut was done with; planes that were pushed are found anew. */
  function take(before: Record<string, unknown>) {
    reset()
    above.value = (before.above_mm as number | undefined) ?? 0
    line.value = (before.line as LineJson | null | undefined) ?? null
  }
  const touched = computed(() => !!line.value || above.value !== 0 || Object.keys(edits).length > 0)
  return {
    above,
    edits,
    chosen,
    active,
    figures,
    before,
    after,
    current,
    parameters,
    line,
    touched,
    change,
    drag,
    flip,
    draw,
    reset,
    use,
    take,
  }
}
