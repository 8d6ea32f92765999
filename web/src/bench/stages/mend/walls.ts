import { ref, watch } from 'vue'
import { fetchGeometry, LatestOnly } from '@/api/geometry'
import type { BenchContext } from '@/bench/context'
import { unpack } from '@/lib/packed'

const WIDE = 3 // thinnest walls that are wanted, up to which thickness is told by colour

/** How thick the body is, as colours of its surface: ochre where it is thin. */
export function wallsPart({ view }: BenchContext) {
  const shown = ref(false)
  const loading = ref(false)
  const fault = ref('')
  const range = ref(0)
  const asked = new LatestOnly()

  async function show(least: number) {
    range.value = WIDE * least
    shown.value = true
    loading.value = true
    fault.value = ''
    await asked
      .run(
        (signal) => fetchGeometry(`/api/snapshots/${view.snapshot.value}/walls`, signal),
        (answer) => {
          const figures = unpack(answer).arrays.figures as Float32Array
          view.viewer.value?.surface.figures(figures, { range: range.value, thin: true })
          view.viewer.value?.ask()
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
    view.viewer.value?.surface.figures(null, { range: 1, thin: true })
    view.viewer.value?.ask()
  }
  // Another surface has other walls.
  watch(view.snapshot, hide)
  return { shown, loading, fault, range, show, hide }
}
