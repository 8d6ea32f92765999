import type * as THREE from 'three'
import type { Pointer, Tool, ToolView } from '@/bench/viewer/tools/Tool'
import { simplified, type Outline, type Pixel } from '@/lib/strokes'

/** What a tool drew: a stroke without the choices that hold for all of them. */
export type Drawn =
  | { shape: Outline; points: Pixel[]; radius_px: number }
  | { shape: 'ball'; centres: [number, number, number][]; radius_mm: number }
  | { shape: 'joined'; at: [number, number, number] }

/** Where strokes go, and how wide the tips are now. */
export interface Strokes {
  /** A line is being drawn that is not shown as a stroke before it is done. */
  begun(points: Pixel[]): void
  /** A stroke is under way: shown, and replaced by the next one that is told. */
  under(drawn: Drawn, other: boolean): void
  /** A stroke is done, or with null it came to nothing. */
  done(drawn: Drawn | null, other: boolean): void
  readonly radiusPx: number
  readonly radiusMm: number
}
const SHORTEST_PX = 3
/** How long a line stays when it is done: until what it marked is shown in its place. */
const LINGER_MS = 120
const REACH_PX = 0.75
const CLOSING_PX = 10

/** A line round what is meant, or with `box` two opposite corners. */
export class Around implements Tool {
  readonly cursor = 'crosshair'
  readonly takesAll = true
  private path: Pixel[] = []
  private fading = 0

  constructor(
    private readonly view: ToolView,
    private readonly strokes: Strokes,
    private readonly box: boolean,
  ) {}
  down({ x, y }: Pointer): boolean {
    window.clearTimeout(this.fading)
    this.path = [[x, y]]
    return true
  }
  move({ x, y }: Pointer) {
    if (!this.path.length) return
    this.goTo([x, y])
    this.show()
  }
  up(at: Pointer) {
    if (!this.path.length) return
    this.goTo([at.x, at.y])
    const path = this.path
    this.path = []
    this.fading = window.setTimeout(() => this.view.lines.set([]), LINGER_MS)
    const wide = Math.max(...path.map((p) => Math.hypot(p[0] - path[0][0], p[1] - path[0][1])))
    const points = this.box ? path : simplified(path, REACH_PX)
    const enough = wide >= SHORTEST_PX && (this.box || points.length > 2)
    const shape = this.box ? 'box' : 'lasso'
    this.strokes.done(enough ? { shape, points, radius_px: 0 } : null, at.shift)
  }
  dispose() {
    this.path = []
    window.clearTimeout(this.fading)
    this.view.lines.set([])
  }
  private goTo(at: Pixel) {
    if (this.box) this.path = [this.path[0], at]
    else this.path.push(at)
  }
  private show() {
    this.strokes.begun(this.path)
    const [a, b] = [this.path[0], this.path.at(-1)!]
    this.view.lines.set(this.box ? [a, [b[0], a[1]], b, [a[0], b[1]], a] : [...this.path, a])
  }
}

/** Corner by corner; it closes at its first corner, or when it is told to. */
export class Corners implements Tool {
  readonly cursor = 'crosshair'
  readonly takesAll = true
  readonly clicks = true
  private corners: Pixel[] = []

  constructor(
    private readonly view: ToolView,
    private readonly strokes: Strokes,
  ) {}
  down({ x, y, shift }: Pointer): boolean {
    const [first] = this.corners
    if (this.corners.length > 2 && Math.hypot(x - first[0], y - first[1]) < CLOSING_PX) this.close(shift)
    else this.corners.push([x, y])
    this.view.lines.set(this.corners)
    return true
  }
  hover({ x, y }: Pointer) {
    if (!this.corners.length) return
    this.view.lines.set([...this.corners, [x, y]])
    this.strokes.begun([...this.corners, [x, y]])
  }
  /** Close it; false when there is nothing that could be. */
  close(other = false): boolean {
    const points = this.corners
    this.corners = []
    this.view.lines.set([])
    if (points.length < 3) return points.length > 0
    this.strokes.done({ shape: 'polygon', points, radius_px: 0 }, other)
    return true
  }
  dispose() {
    this.corners = []
    this.view.lines.set([])
  }
}

/** A round tip on the screen; what it sweeps over is marked while it moves. */
export class Brush implements Tool {
  readonly cursor = 'none'
  readonly takesAll = true
  private path: Pixel[] = []

  constructor(
    private readonly view: ToolView,
    private readonly strokes: Strokes,
  ) {}
  down(at: Pointer): boolean {
    this.path = []
    this.move(at)
    return true
  }
  move({ x, y, shift }: Pointer) {
    this.path.push([x, y])
    this.view.lines.ring([x, y], this.strokes.radiusPx)
    this.strokes.under(this.drawn(), shift)
  }
  up({ shift }: Pointer) {
    if (this.path.length) this.strokes.done(this.drawn(), shift)
    this.path = []
  }
  hover({ x, y }: Pointer) {
    this.view.lines.ring([x, y], this.strokes.radiusPx)
  }
  dispose() {
    this.path = []
    this.view.lines.ring(null, 0)
  }
  private drawn(): Drawn {
    return { shape: 'brush', points: simplified(this.path, REACH_PX), radius_px: this.strokes.radiusPx }
  }
}

/** A ball that rolls on the surface. */
export class Ball implements Tool {
  readonly cursor = 'none'
  readonly takesAll = true
  private centres: [number, number, number][] = []

  constructor(
    private readonly view: ToolView,
    private readonly strokes: Strokes,
  ) {}
  down(at: Pointer): boolean {
    this.centres = []
    this.move(at)
    return true
  }
  move(at: Pointer) {
    const found = this.hover(at)
    if (!found) return
    this.centres.push(found)
    this.strokes.under(this.drawn(), at.shift)
  }
  up({ shift }: Pointer) {
    this.strokes.done(this.centres.length ? this.drawn() : null, shift)
    this.centres = []
  }
  /** Show how large the ball is where the pointer is; the place it stands at, if it stands on anything. */
  hover({ x, y }: Pointer): [number, number, number] | null {
    const found = this.view.pick(x, y)
    const away = found ? this.view.camera.position.distanceTo(at(this.view.camera.position, found.place)) : 0
    this.view.lines.ring(
      found ? [x, y] : null,
      found ? this.strokes.radiusMm / (away * this.view.sight(x, y).pixel) : 0,
    )
    return found?.place ?? null
  }
  dispose() {
    this.centres = []
    this.view.lines.ring(null, 0)
  }
  private drawn(): Drawn {
    return { shape: 'ball', centres: this.centres, radius_mm: this.strokes.radiusMm }
  }
}
const at = (like: THREE.Vector3, place: number[]) => like.clone().fromArray(place)

/** A click means all that hangs together with a place. */
export class Joined implements Tool {
  readonly cursor = 'crosshair'
  readonly takesAll = true
  readonly clicks = true

  constructor(
    private readonly view: ToolView,
    private readonly strokes: Strokes,
  ) {}
  down({ x, y, shift }: Pointer): boolean {
    const found = this.view.pick(x, y)
    this.strokes.done(found ? { shape: 'joined', at: found.place } : null, shift)
    return true
  }
  dispose() {}
}
