import { ref } from 'vue'

/** Run async acts, saying while one is under way and keeping the sentence of the last fault. */
export function useAsync() {
  const busy = ref(false)
  const fault = ref('')
  async function run(act: () => Promise<unknown>): Promise<boolean> {
    busy.value = true
    fault.value = ''
    try {
      await act()
      return true
    } catch (e) {
      fault.value = e instanceof Error ? e.message : String(e)
      return false
    } finally {
      busy.value = false
    }
  }
  return { busy, fault, run }
}
