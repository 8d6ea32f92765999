import type { Pointer, Tool, ToolView, ViewJson } from '@/bench/viewer/tools/Tool'

/** A line drawn across a view, as steps keep it. */
export interface LineJson {
  start: [number, number]
  end: [number, number]
  view: ViewJson
}
const SHORTEST_PX = 12
const SNAP_DEG = 15

/** A straight line from where the button goes down to where it goes up; Shift holds it to steps of 15°. */
export class DrawLine implements Tool {
  readonly cursor = 'crosshair'
  readonly takesAll = true
  private start: [number, number] | null = null

  constructor(
    private readonly view: ToolView,
    private readonly drawn: (line: LineJson) => void,
  ) {}
  down(at: Pointer): boolean {
    this.start = [at.x, at.y]
    return true
  }
  move(at: Pointer) {
    if (this.start) this.view.lines.set([this.start, held(this.start, at)])
  }
  up(at: Pointer) {
    const { start } = this
    this.start = null
    this.view.lines.set([])
    if (!start) return
    const end = held(start, at)
    if (Math.hypot(end[0] - start[0], end[1] - start[1]) < SHORTEST_PX) return
    // A hand draws either way; kept is what lies above the line, or left of an upright one.
    const leftwards = end[0] < start[0] || (end[0] === start[0] && end[1] > start[1])
    const [first, last] = leftwards ? [end, start] : [start, end]
    this.drawn({ start: first, end: last, view: this.view.asJson() })
  }
  dispose() {
    this.view.lines.set([])
  }
}

function held(start: [number, number], { x, y, shift }: Pointer): [number, number] {
  if (!shift) return [x, y]
  const step = (SNAP_DEG * Math.PI) / 180
  const length = Math.hypot(x - start[0], y - start[1])
  const angle = Math.round(Math.atan2(y - start[1], x - start[0]) / step) * step
  return [start[0] + length * Math.cos(angle), start[1] + length * Math.sin(angle)]
}
