import { computed, reactive, ref, shallowRef, watch } from 'vue'
import { api, ask, type JobView, type ReceiverView, type Wish } from '@/api/client'
import type { BenchContext } from '@/bench/context'
import { useJobs } from '@/stores/jobs'

export type Made = NonNullable<JobView['delivery']> & { job: string; title: string }

/** Who may receive the object, what each is to get, and what was made for them. */
export function delivering({ id, bench, view }: BenchContext) {
  const receivers = shallowRef<ReceiverView[]>([])
  const values = reactive<Record<string, Record<string, unknown>>>({})
  /** Receivers that are delivered to together. */
  const chosen = ref<string[]>([])
  const open = ref('')
  const fault = ref('')
  const made = shallowRef<Made[]>([])
  const path = { object_id: id }
  let asked = 0

  async function load() {
    const mine = ++asked
    try {
      const told = await ask(api.GET('/api/objects/{object_id}/deliveries', { params: { path } }))
      if (mine !== asked) return
      receivers.value = told
      // What is being chosen here stays; the rest is as it was chosen last.
      for (const r of told) values[r.name] ??= { ...(r.values as Record<string, unknown>) }
      if (!open.value) open.value = told[0]?.name ?? ''
      fault.value = ''
    } catch (e) {
      fault.value = e instanceof Error ? e.message : String(e)
    }
  }
  // What is ready for a receiver follows from what the object is now.
  watch(view.snapshot, () => void load(), { immediate: true })

  useJobs().listen((job) => {
    if (job.object_id !== id || !job.delivery || made.value.some((m) => m.job === job.id)) return
    made.value = [{ ...job.delivery, job: job.id, title: job.title }, ...made.value]
  })
  function choose(name: string) {
    chosen.value = chosen.value.includes(name)
      ? chosen.value.filter((n) => n !== name)
      : [...chosen.value, name]
  }
  const wanted = computed(() => (chosen.value.length ? chosen.value : open.value ? [open.value] : []))
  const deliver = (names = wanted.value) =>
    bench.deliver(
      names.map((receiver) => ({
        receiver: receiver as Wish['receiver'],
        values: { ...values[receiver] },
      })),
    )
  return { receivers, values, chosen, open, fault, made, wanted, load, choose, deliver }
}
export const deliveringPart = (context: BenchContext) => context.part('delivering', delivering)

const PLAIN: Record<string, (value: unknown) => string> = {
  format: (v) => (v === 'both' ? 'HTML and PDF' : String(v).toUpperCase()),
  unit: (v) => String(v),
  up: (v) => `${String(v).toUpperCase()} up`,
  triangles: (v) =>
    v ? `at most ${Number(v).toLocaleString('en-GB').replace(/,/g, '\u2009')} triangles` : 'all triangles',
  texture: (v) => (v ? `${String(v)} texels` : 'whole texture'),
  axis: (v) => `square to ${String(v).toUpperCase()}`,
  every_mm: (v) => `every ${String(v)}\u2009mm`,
  picture: (v) => `${String(v).toUpperCase()} texture`,
}
const SWITCHES: Record<string, [on: string, off: string]> = {
  colour: ['colour on', 'no colour'],
  normal_map: ['normal map', ''],
  occlusion: ['occlusion', ''],
  usdz: ['USDZ too', ''],
  measured_only: ['nothing made up', 'made-up area too'],
  points: ['points', ''],
  mesh: ['surface', ''],
  report: ['report', ''],
  turning: ['turning page', ''],
  moving: ['moving picture', ''],
  still: ['still', ''],
  steps: ['every step', 'without steps'],
}
/** What a receiver will get, in one line. */
export const lineOf = (values: Record<string, unknown>) =>
  Object.entries(values)
    .map(([name, value]) => PLAIN[name]?.(value) ?? SWITCHES[name]?.[value ? 0 : 1] ?? '')
    .filter(Boolean)
    .join(' · ')
