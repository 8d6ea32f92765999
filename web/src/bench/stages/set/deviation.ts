import { computed, ref, watch } from 'vue'
import { fetchGeometry, LatestOnly } from '@/api/geometry'
import type { BenchContext } from '@/bench/context'
import { unpack } from '@/lib/packed'

export interface Told {
  against: string
  tolerance_mm: number
  mean_mm: number
  rms_mm: number
  p95_mm: number
  max_mm: number
  known_share: number
  within_share: number | null
  range_mm: number
  bins: number[]
  extremes: { at: number[]; off_mm: number }[]
}

/** How far the surface lies off what it was held against, as colours of it. */
export function deviationOf({ bench, view }: BenchContext) {
  const shown = ref(false)
  const loading = ref(false)
  const fault = ref('')
  const asked = new LatestOnly()
  /** The newest step, where that is the deviation: after any other the surface may be another one. */
  const told = computed(() => {
    const steps = (bench.bench.value?.steps ?? []).filter((s) => !s.undone)
    const last = steps[steps.length - 1]
    return last?.operation === 'deviation' ? (last.report as unknown as Told) : null
  })
  const against = computed(() => [
    ...(bench.bench.value?.takes ?? []).map((t) => t.name),
    ...(bench.bench.value?.passes ?? []).filter((p) => p.placed && !p.off).map((p) => p.title),
  ])
  async function show() {
    const { viewer } = view
    if (!told.value || !viewer.value) return
    const { range_mm, tolerance_mm } = told.value
    shown.value = true
    loading.value = true
    fault.value = ''
    await asked
      .run(
        (signal) => fetchGeometry(`/api/snapshots/${view.snapshot.value}/deviation`, signal),
        (answer) => {
          const figures = unpack(answer).arrays.figures as Float32Array
          viewer.value?.surface.figures(figures, { range: range_mm, thin: false, band: tolerance_mm })
          viewer.value?.ask()
        },
      )
      .catch((e) => {
        shown.value = false
        fault.value = e instanceof Error ? e.message : String(e)
      })
    loading.value = false
  }
  function hide() {
    asked.stop()
    shown.value = false
    loading.value = false
    view.viewer.value?.surface.figures(null, { range: 1, thin: false })
    view.viewer.value?.ask()
  }
  watch(view.snapshot, hide)
  return { shown, loading, fault, told, against, show, hide }
}
export const deviationPart = (context: BenchContext) => context.part('deviation', deviationOf)
