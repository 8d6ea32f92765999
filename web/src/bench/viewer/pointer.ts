import type { Orbit } from '@/bench/viewer/tools/Orbit'
import type { Pointer, Tool } from '@/bench/viewer/tools/Tool'

/**
 * Gives the pointer to the tool that is on, and to turning what the tool does not take. A tool owns a drag from where
 * the button goes down to where it goes up, wherever that is; with Space held no tool gets any.
 */
export class PointerOwner {
  private tool: Tool | null = null
  private owned = false
  private space = false
  private readonly stops: (() => void)[] = []

  constructor(
    private readonly host: HTMLElement,
    private readonly orbit: Orbit,
    private readonly doubled: (at: Pointer) => void,
  ) {
    // In the capturing phase, so that a drag that a tool takes never reaches what turns the view.
    this.on(host, 'pointerdown', (e) => this.down(e as PointerEvent), true)
    this.on(host, 'pointermove', (e) => this.move(e as PointerEvent), true)
    this.on(host, 'pointerup', (e) => this.up(e as PointerEvent), true)
    this.on(host, 'pointercancel', (e) => this.up(e as PointerEvent), true)
    this.on(host, 'dblclick', (e) => this.doubled(this.at(e as MouseEvent)))
    this.on(host, 'contextmenu', (e) => e.preventDefault())
    this.on(window, 'keydown', (e) => this.hold(e as KeyboardEvent, true))
    this.on(window, 'keyup', (e) => this.hold(e as KeyboardEvent, false))
  }
  /** Turn a tool on, or with null turn the one that is on off. */
  take(tool: Tool | null) {
    this.tool?.dispose()
    this.tool = tool
    this.owned = false
    this.settle()
  }
  /** Move a pointer that keys move: with the tool held down it draws. */
  moveTo(at: Pointer) {
    if (this.owned) this.tool?.move?.(at)
    else this.tool?.hover?.(at)
  }
  /** Put the tool down there with a key, or lift it again. */
  press(at: Pointer) {
    if (this.owned) {
      this.owned = false
      this.tool?.up?.(at)
    } else if (this.tool) {
      this.owned = !!this.tool.down?.(at) && !this.tool.clicks
      if (!this.owned) this.tool.up?.(at)
    }
  }
  /** Whether the tool that is on takes every drag, so that keys may move a cursor for it. */
  get drawing() {
    return !!this.tool && !!this.tool.down
  }
  dispose() {
    this.take(null)
    this.stops.forEach((stop) => stop())
  }

  private down(e: PointerEvent) {
    if (e.button !== 0 || this.space || !this.tool?.down) return
    this.owned = this.tool.down(this.at(e))
    if (!this.owned) return
    e.stopPropagation()
    this.host.setPointerCapture?.(e.pointerId)
    this.settle()
  }
  private move(e: PointerEvent) {
    if (this.owned) {
      e.stopPropagation()
      this.tool?.move?.(this.at(e))
    } else if (e.buttons === 0) {
      this.tool?.hover?.(this.at(e))
      this.settle()
    }
  }
  private up(e: PointerEvent) {
    if (this.owned) e.stopPropagation()
    this.owned = false
    if (e.button === 0 && !this.space) this.tool?.up?.(this.at(e))
    this.settle()
  }
  private hold(e: KeyboardEvent, on: boolean) {
    if (e.code !== 'Space' || (e.target as HTMLElement).closest?.('input, textarea, button, select, a'))
      return
    if (this.tool) e.preventDefault()
    this.space = on
    this.settle()
  }
  private settle() {
    const free = this.space || !this.tool
    this.orbit.yieldLeft(!free && this.tool!.takesAll)
    this.host.style.cursor = free ? '' : this.owned ? 'grabbing' : this.tool!.cursor
  }
  private at(e: MouseEvent): Pointer {
    const box = this.host.getBoundingClientRect()
    return { x: e.clientX - box.left, y: e.clientY - box.top, shift: e.shiftKey }
  }
  private on(target: EventTarget, kind: string, act: (e: Event) => void, capture = false) {
    target.addEventListener(kind, act, { capture })
    this.stops.push(() => target.removeEventListener(kind, act, { capture }))
  }
}
