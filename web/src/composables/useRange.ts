import { computed, ref } from 'vue'

/** A range of frames that somebody marks along a track, by dragging or with the keys; `act` is what Delete does with it. */
export function useRange(frames: () => number, act: () => void) {
  const marked = ref<[number, number] | null>(null)
  const range = computed(() =>
    marked.value ? ([Math.min(...marked.value), Math.max(...marked.value)] as [number, number]) : null,
  )
  const words = computed(() => {
    if (!range.value) return ''
    const [first, last] = range.value
    return first === last ? `Frame ${first + 1}` : `Frames ${first + 1} to ${last + 1}`
  })
  const within = (frame: number) => Math.min(Math.max(frame, 0), Math.max(frames() - 1, 0))
  function frameAt(e: PointerEvent) {
    const { left, width } = (e.currentTarget as HTMLElement).getBoundingClientRect()
    return within(Math.floor(((e.clientX - left) / width) * frames()))
  }
  function begin(e: PointerEvent) {
    const at = frameAt(e)
    marked.value = [e.shiftKey && marked.value ? marked.value[0] : at, at]
    ;(e.currentTarget as HTMLElement).setPointerCapture?.(e.pointerId)
  }
  function extend(e: PointerEvent) {
    if (e.buttons && marked.value) marked.value = [marked.value[0], frameAt(e)]
  }
  /** Arrows move the mark, with Shift its end; what is pressed on a track does nothing elsewhere. */
  function press(e: KeyboardEvent) {
    const by = { ArrowLeft: -1, ArrowRight: 1 }[e.key]
    const now = marked.value ?? [frames() - 1, frames() - 1]
    if (by) {
      const end = within(now[1] + by * Math.max(Math.round(frames() / 100), 1))
      marked.value = [e.shiftKey ? now[0] : end, end]
    } else if (e.key === 'Delete' && range.value) act()
    else if (e.key === 'Escape' && marked.value) marked.value = null
    else return
    e.preventDefault()
    e.stopPropagation()
  }
  const leave = () => (marked.value = null)
  return { range, words, begin, extend, press, leave }
}
