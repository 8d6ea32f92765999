import { onBeforeUnmount, onMounted } from 'vue'
import type { BenchContext } from '@/bench/context'
import { handPart, movesOf, movesOfPad } from '@/bench/stages/capture/hand/hand'

const PAD_MS = 60

/** Steers the head of a pass by hand by keys, and by a gamepad where there is one. */
export function useSteering(context: BenchContext) {
  const { live } = context
  const { on } = context.part('hand', handPart)
  const press = (e: KeyboardEvent) => {
    const typing = (e.target as HTMLElement).closest?.(
      'input:not([type=checkbox]), textarea, select, [role=slider], [role=dialog]',
    )
    if (!on.value || typing || e.ctrlKey || e.metaKey) return
    const moves = movesOf(e.key, e.shiftKey, e.altKey)
    if (!moves) return
    e.preventDefault()
    live.steer({ moves })
  }
  const poll = () => {
    const pad = on.value ? navigator.getGamepads?.().find((p) => p?.connected) : null
    const moves = pad ? movesOfPad(pad.axes) : null
    if (moves) live.steer({ moves })
  }
  let timer = 0
  onMounted(() => {
    window.addEventListener('keydown', press)
    timer = window.setInterval(poll, PAD_MS)
  })
  onBeforeUnmount(() => {
    window.removeEventListener('keydown', press)
    window.clearInterval(timer)
  })
}
