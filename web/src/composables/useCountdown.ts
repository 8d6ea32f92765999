import { onBeforeUnmount, ref } from 'vue'

/** Counts whole seconds down, then acts; started again while it counts it stops, and nothing happens. */
export function useCountdown(act: () => void) {
  const left = ref(0)
  let timer = 0
  function stop() {
    window.clearInterval(timer)
    left.value = 0
  }
  function start(seconds: number) {
    if (left.value > 0) return stop()
    if (seconds < 1) return act()
    left.value = Math.round(seconds)
    timer = window.setInterval(() => {
      left.value -= 1
      if (left.value > 0) return
      stop()
      act()
    }, 1000)
  }
  onBeforeUnmount(stop)
  return { left, start }
}
