import type { Rims } from '@/bench/viewer/layers/Rims'
import { StillClick } from '@/bench/viewer/tools/StillClick'
import type { ToolView } from '@/bench/viewer/tools/Tool'

const REACH_PX = 40

/** A click near a rim takes the hole or leaves it. */
export class TakeRims extends StillClick {
  constructor(view: ToolView, rims: Rims, turn: (rim: number) => void) {
    super('pointer', (at) => {
      const rim = rims.nearest([at.x, at.y], (place) => view.project(place), REACH_PX)
      if (rim >= 0) turn(rim)
    })
  }
}
