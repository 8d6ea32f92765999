import * as THREE from 'three'
import type { Handle, HandleKind, Planes } from '@/bench/viewer/layers/Planes'
import type { Pointer, Tool, ToolView } from '@/bench/viewer/tools/Tool'

const REACH_PX = 14

/** How far a plane was pushed (mm) or tilted (degrees) since the drag began. */
export type PlaneDrag = (kind: HandleKind, amount: number, end: boolean) => void

/** The handles of the chosen plane: one pushes it along its normal, two tilt it. Other drags turn the view. */
export class PushPlane implements Tool {
  cursor = 'default'
  readonly takesAll = false
  private held: Handle | null = null
  private from = 0

  constructor(
    private readonly view: ToolView,
    private readonly planes: Planes,
    private readonly dragged: PlaneDrag,
  ) {}
  down(at: Pointer): boolean {
    this.held = this.near(at)
    if (!this.held) return false
    this.from = this.along(at, this.held)
    return true
  }
  move(at: Pointer) {
    if (this.held) this.tell(at, false)
  }
  up(at: Pointer) {
    if (this.held) this.tell(at, true)
    this.held = null
  }
  hover(at: Pointer) {
    this.cursor = this.near(at) ? 'grab' : 'default'
  }
  dispose() {
    this.held = null
  }
  private tell(at: Pointer, end: boolean) {
    const { kind, arm } = this.held!
    const mm = this.along(at, this.held!) - this.from
    const amount = kind === 'push' ? mm : THREE.MathUtils.radToDeg(Math.atan2(mm, arm.length()))
    this.dragged(kind, amount, end)
  }
  private near({ x, y }: Pointer): Handle | null {
    let best: Handle | null = null
    let nearest = REACH_PX
    for (const handle of this.planes.handles) {
      const [u, v] = this.view.project(handle.at)
      const away = Math.hypot(u - x, v - y)
      if (away < nearest) [nearest, best] = [away, handle]
    }
    return best
  }
  /** Where the pointer is along the line through a handle in the direction of the plane's normal (mm). */
  private along({ x, y }: Pointer, { at, normal }: Handle): number {
    return alongLine(this.view.sight(x, y).ray, at, normal)
  }
}

/** Place (mm) on a line, from a point of it along its direction, that a ray passes nearest to. */
export function alongLine(ray: THREE.Ray, point: THREE.Vector3, direction: THREE.Vector3): number {
  const between = point.clone().sub(ray.origin)
  const cos = ray.direction.dot(direction)
  const rest = 1 - cos * cos
  // Looking along the line, a drag says nothing about it.
  if (rest < 1e-4) return 0
  return (cos * between.dot(ray.direction) - between.dot(direction)) / rest
}
