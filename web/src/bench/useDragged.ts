import { watch } from 'vue'
import type { BenchContext } from '@/bench/context'
import { snappingPart } from '@/bench/stages/align/snapping'

/** While a pass is dragged it is shown where the hand holds it, and let go where it would snap to. */
export function useDragged(context: BenchContext) {
  const { view } = context
  const part = snappingPart(context)
  let laid = -1
  watch([part.shown, part.moving, view.viewer], ([motion, pass, viewer]) => {
    if (!viewer) return
    if (laid >= 0 && (laid !== pass || !motion)) viewer.points.lay(laid, null)
    if (motion) viewer.points.lay(pass, motion)
    laid = motion ? pass : -1
    viewer.ask()
  })
}
