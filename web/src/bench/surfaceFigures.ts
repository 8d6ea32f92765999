import { ref, watch } from 'vue'
import { fetchGeometry, LatestOnly } from '@/api/geometry'
import type { BenchContext } from '@/bench/context'
import type { FigureScale } from '@/bench/viewer/layers/surfaceMaterial'
import { unpack } from '@/lib/packed'

/** A figure of every place of the surface that the server measures, shown as colours of it until it is another surface. */
export function surfaceFigures({ view }: BenchContext, what: 'walls' | 'deviation' | 'accuracy') {
  const shown = ref(false)
  const loading = ref(false)
  const fault = ref('')
  const asked = new LatestOnly()
  let thin = false
  let lay = () => {}

  async function show(scale: FigureScale) {
    thin = scale.thin
    shown.value = true
    loading.value = true
    fault.value = ''
    view.whole.value = true
    await asked
      .run(
        (signal) => fetchGeometry(`/api/snapshots/${view.snapshot.value}/${what}`, signal),
        (answer) => keep(unpack(answer).arrays.figures as Float32Array, scale),
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
    keep(null, { range: 1, thin })
  }
  function keep(figures: Float32Array | null, scale: FigureScale) {
    lay = () => {
      view.viewer.value?.surface.figures(figures, scale)
      view.viewer.value?.ask()
    }
    lay()
  }
  watch(view.snapshot, hide)
  // They are of every place of the whole surface, which comes after what is seen at a glance.
  watch(view.glancing, (on) => !on && shown.value && lay())
  return { shown, loading, fault, show, hide }
}
