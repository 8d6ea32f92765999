import { computed, ref, shallowRef, watch } from 'vue'
import { fetchGeometry, LatestOnly } from '@/api/geometry'
import type { BenchContext } from '@/bench/context'
import { unpack } from '@/lib/packed'

export const UNANSWERED_KEY = 'Alt+F'
interface Told {
  frames: number
  width: number
  why: string
  lost: number
  reasons: { name: string; share: number; words: string; advice: string }[]
}
/** Marks of the painted photograph by reason, in the order the server counts them: violet hatch, ochre hatch, stipple. */
const MARKS = { dark: 2, glossy: 1, clear: 1, steep: 3, range: 3, hidden: 3 }
const BY_REASON = [0, ...Object.values(MARKS)]

/** Where the surface of a pass gave no answer, frame by frame. */
export function unanswered({ bench, view }: BenchContext) {
  const open = ref(false)
  const pass = ref(0)
  const frame = ref(0)
  const told = shallowRef<Told | null>(null)
  const photo = shallowRef<{ photograph: Uint8Array; marks: Uint8Array; width: number } | null>(null)
  const loading = ref(false)
  const fault = ref('')
  const latest = new LatestOnly()
  const passes = computed(() => bench.bench.value?.passes ?? [])
  const url = computed(() =>
    open.value && passes.value[pass.value]
      ? `/api/snapshots/${view.snapshot.value}/passes/${pass.value}/unanswered/${frame.value}`
      : null,
  )

  watch(url, load)
  watch(pass, () => (frame.value = 0))
  watch(passes, (now) => (pass.value = Math.min(pass.value, Math.max(now.length - 1, 0))))

  async function load() {
    fault.value = ''
    loading.value = !!url.value
    if (!url.value) return latest.stop()
    const asked = url.value
    await latest
      .run((signal) => fetchGeometry(asked, signal), show)
      .catch((e) => {
        told.value = photo.value = null
        fault.value = e instanceof Error ? e.message : String(e)
      })
    if (url.value === asked) loading.value = false
  }
  function show(answer: ArrayBuffer) {
    const { head, arrays } = unpack<Told>(answer)
    told.value = head
    const { photograph, reason } = arrays as Record<string, Uint8Array>
    photo.value = photograph
      ? { photograph, marks: reason.map((r) => BY_REASON[r]), width: head.width }
      : null
  }
  /** Look at the next frame, or with −1 at the one before. */
  function step(by: number) {
    const count = told.value?.frames ?? 1
    frame.value = (frame.value + by + count) % count
  }
  return { open, pass, frame, passes, told, photo, loading, fault, step }
}
export const unansweredPart = (context: BenchContext) => context.part('unanswered', unanswered)
