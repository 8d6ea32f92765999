import { ref, watch } from 'vue'
import { fetchGeometry, LatestOnly } from '@/api/geometry'
import type { BenchContext } from '@/bench/context'
import { NO_SHIFT } from '@/bench/viewer/layers/points'
import { unpack } from '@/lib/packed'

/** Half of what is told of a pass lies nearer, and nearly all. */
export interface ShiftTold {
  title: string
  half: number
  most: number
  known: number
}
const LEAST_RANGE = 0.05
const MOST = 0.95

/** How far every pass lies off the others, fetched when that is what the view shows. */
export function shiftPart({ bench, view }: BenchContext) {
  const told = ref<ShiftTold[]>([])
  const range = ref(0)
  const asked = new LatestOnly()
  let of = ''

  async function load() {
    const snapshot = view.snapshot.value
    const { points } = view.viewer.value ?? {}
    if (view.mode.value !== 'shift' || !snapshot || !points || view.loading.value) return
    if (of === snapshot) return
    of = snapshot
    const passes = bench.bench.value?.passes ?? []
    await asked
      .run(
        (signal) =>
          Promise.all(
            passes.map(({ off }, n) =>
              off ? null : fetchGeometry(`/api/snapshots/${snapshot}/passes/${n}/shift`, signal),
            ),
          ),
        (answers) => {
          told.value = answers.flatMap((answer, n) => {
            if (!answer) return []
            const { head, arrays } = unpack<{ digest: string }>(answer)
            const shift = arrays.shift as Float32Array
            points.setShift(n, head.digest, shift)
            return [figuresOf(passes[n].title, shift)]
          })
          range.value = Math.max(LEAST_RANGE, ...told.value.map((t) => t.most))
          points.shiftRange(range.value)
          view.viewer.value?.ask()
        },
      )
      .catch((e) => {
        of = ''
        view.fault.value = e instanceof Error ? e.message : String(e)
      })
  }
  watch([view.mode, view.snapshot, view.loading, view.passUrls], () => {
    // Points that come anew know nothing of their shift yet, and what was asked of the old ones is not theirs.
    if (view.loading.value || view.mode.value !== 'shift') {
      asked.stop()
      of = ''
      told.value = []
    }
    void load()
  })
  return { told, range }
}

export function figuresOf(title: string, shift: Float32Array): ShiftTold {
  const known = shift.filter((v) => v > NO_SHIFT / 2).map(Math.abs)
  known.sort()
  const at = (share: number) => known[Math.min(Math.floor(share * known.length), known.length - 1)] ?? 0
  return { title, half: at(0.5), most: at(MOST), known: shift.length ? known.length / shift.length : 0 }
}
