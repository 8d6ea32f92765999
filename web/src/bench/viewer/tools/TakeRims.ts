import type { Rims } from '@/bench/viewer/layers/Rims'
import { StillClick } from '@/bench/viewer/tools/StillClick'
import type { ToolView } from '@/bench/viewer/tools/Tool'

const REACH_PX = 40

/** A click near a rim: which one, and where. */
export class TakeRims extends StillClick {
  constructor(view: ToolView, rims: Rims, clicked: (rim: number, place: number[]) => void) {
    super('pointer', (at) => {
      const found = rims.nearest([at.x, at.y], (place) => view.project(place), REACH_PX)
      if (found) clicked(found.rim, found.place)
    })
  }
}
