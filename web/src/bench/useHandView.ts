import { onBeforeUnmount, watch } from 'vue'
import type { BenchContext } from '@/bench/context'
import { COVERAGE_STEPS } from '@/bench/useDeskView'
import type { GrownModel, HandPose } from '@/bench/viewer/layers/LiveModel'
import type { ViewMode } from '@/bench/viewer/layers/Layer'
import { token } from '@/lib/tokens'
import { useTheme } from '@/stores/theme'

/** After a frame of the head, until which another one is expected. */
const STOOD_STILL_MS = 800

/** Shows in the view how a pass by hand grows, for as long as it is taken. */
export function useHandView({ bench, view, live }: BenchContext) {
  const theme = useTheme()
  let modeBefore: ViewMode | null = null
  let framed = ''

  watch(
    () => (bench.capturing.value?.by_hand ? bench.capturing.value.capture : null),
    (capture) => {
      live.follow(capture ?? null)
      framed = ''
      if (capture && !modeBefore) [modeBefore, view.mode.value] = [view.mode.value, 'coverage']
      else if (!capture && modeBefore) {
        view.mode.value = modeBefore
        modeBefore = null
      }
      if (!capture) {
        view.viewer.value?.hand.clear()
        view.viewer.value?.style()
      }
    },
    { immediate: true },
  )
  function show() {
    const viewer = view.viewer.value
    const seen = live.hand.value
    if (!viewer || !seen) return
    const layer = (kind: string) => seen.layers.find((l) => l.kind === kind)?.arrays
    const model = layer('model')
    if (model) viewer.hand.setModel(model as unknown as GrownModel, COVERAGE_STEPS.map(token))
    const inks = { line: token('ink'), next: token('verdigris') }
    viewer.hand.setPose(layer('hand') as unknown as HandPose, inks)
    viewer.askLightly(STOOD_STILL_MS)
    viewer.style()
    // The view jumps only when the object is stood upright anew, or has outgrown it by far.
    const scope = `${seen.figures.stood} ${Math.round(Math.log2(viewer.hand.size + 1) * 1.5)}`
    if (model && scope !== framed) viewer.frameAll()
    if (model) framed = scope
    live.drawPlainly(viewer.effort.plainly)
  }
  watch(live.hand, show)
  // A pass that stands still is drawn in the other inks at once.
  watch(() => theme.dark, show, { flush: 'post' })
  onBeforeUnmount(() => live.follow(null))
}
