import type { Place } from '@/bench/viewer/layers/Layer'
import { StillClick } from '@/bench/viewer/tools/StillClick'
import type { ToolView } from '@/bench/viewer/tools/Tool'

/** A click names a place: where it is, and which pass, frame and pixel measured it. */
export class Pick extends StillClick {
  constructor(view: ToolView, picked: (place: Place | null) => void) {
    super('help', (at) => picked(view.pick(at.x, at.y)))
  }
}
