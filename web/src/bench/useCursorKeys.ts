import { onBeforeUnmount, onMounted } from 'vue'
import type { BenchContext } from '@/bench/context'

const STEP_PX = 4
const WIDE_PX = 28
const ARROWS: Record<string, [number, number]> = {
  ArrowLeft: [-1, 0],
  ArrowRight: [1, 0],
  ArrowUp: [0, -1],
  ArrowDown: [0, 1],
}
/** Where arrow keys have a meaning of their own, and where Enter has. */
const OWN_ARROWS = 'input, textarea, select, [role=slider], [role=dialog], [role=listbox], [contenteditable]'
const OWN_ENTER = `${OWN_ARROWS}, button, a`

/** Arrow keys move a cursor for the tool that is on, Shift in wide steps; Enter puts the tool down there, or lifts it. */
export function useCursorKeys({ view }: BenchContext) {
  const press = (e: KeyboardEvent) => {
    const cursor = view.viewer.value?.cursor
    if (!cursor || e.ctrlKey || e.metaKey || e.altKey) return
    const way = ARROWS[e.key]
    if ((e.target as HTMLElement).closest?.(way ? OWN_ARROWS : OWN_ENTER)) return
    const wide = e.shiftKey ? WIDE_PX : STEP_PX
    const took = way
      ? cursor.move(way[0] * wide, way[1] * wide)
      : e.key === 'Enter' && !e.shiftKey && cursor.press(false)
    if (!took) return
    // The button that was used last must not take the Enter that is meant for the tool.
    ;(document.activeElement as HTMLElement | null)?.blur?.()
    e.preventDefault()
    e.stopImmediatePropagation()
  }
  onMounted(() => window.addEventListener('keydown', press, { capture: true }))
  onBeforeUnmount(() => window.removeEventListener('keydown', press, { capture: true }))
}
