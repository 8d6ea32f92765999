import { computed, onBeforeUnmount, ref, shallowRef } from 'vue'
import {
  api,
  ask,
  type Bench,
  type CapturePlan,
  type Catalogue,
  type JobView,
  type StepView,
  type Wish,
} from '@/api/client'
import type { Said } from '@/api/uploads'
import { announce } from '@/composables/announce'
import { useAsync } from '@/composables/useAsync'
import { useArrivals } from '@/stores/arrivals'
import { hasEnded, useJobs, type JobAct } from '@/stores/jobs'

/** State of one object's bench, kept true while its jobs run. */
export function useBench(id: string) {
  const jobs = useJobs()
  const arrivals = useArrivals()
  const bench = shallowRef<Bench | null>(null)
  const catalogue = shallowRef<Catalogue | null>(null)
  const job = shallowRef<JobView | null>(null)
  const lastFault = ref('')
  /** Sentences of what a job left out that did the rest. */
  const leftOut = ref('')
  const { busy: asking, fault, run } = useAsync()
  const path = { object_id: id }
  let ticket = 0
  let seenStep = 0

  async function load() {
    const mine = ++ticket
    const answer = await ask(api.GET('/api/objects/{object_id}', { params: { path } }))
    if (mine !== ticket) return
    bench.value = answer
    job.value = answer.job ?? null
  }
  const reload = () =>
    load().catch((e: Error) => {
      lastFault.value = e.message
      if (job.value?.kind === 'capture') job.value = null
    })
  const start = () =>
    run(async () => {
      catalogue.value = await ask(api.GET('/api/catalogue'))
      await load()
    })

  const unlisten = jobs.listen((changed) => {
    if (changed.object_id !== id) return
    const ended = hasEnded(changed)
    // A pass that ended stays in the view until what became of it is known.
    if (!ended || changed.kind !== 'capture' || changed.state !== 'done') job.value = ended ? null : changed
    if (ended) {
      if (changed.state === 'failed') lastFault.value = changed.error
      else if (changed.state === 'done') leftOut.value = changed.error
      announce(`${changed.object_title}: ${changed.title} ${changed.state}`)
      void reload()
      seenStep = 0
    } else if (changed.kind === 'recipe' && changed.step !== seenStep) {
      seenStep = changed.step
      void reload()
    }
  })
  // Somebody changed the object on another page.
  const unlistenObjects = jobs.listenToObjects((changed) => {
    if (changed.id === id && bench.value && !job.value && changed.snapshot !== bench.value.snapshot)
      void reload()
  })
  onBeforeUnmount(() => {
    unlisten()
    unlistenObjects()
  })

  async function begin(call: () => Promise<JobView>) {
    dismiss()
    await run(async () => {
      const started = await call()
      job.value = started
      jobs.take(started)
    })
  }
  const recipe = (name: string) =>
    begin(() => ask(api.POST('/api/objects/{object_id}/runs', { params: { path }, body: { recipe: name } })))
  const operation = (name: string, parameters: Record<string, unknown> = {}) =>
    begin(() =>
      ask(
        api.POST('/api/objects/{object_id}/runs', {
          params: { path },
          body: { operation: name, parameters },
        }),
      ),
    )
  const deliver = (wishes: Wish[]) =>
    begin(() => ask(api.POST('/api/objects/{object_id}/deliveries', { params: { path }, body: { wishes } })))
  const capture = (plan: CapturePlan) =>
    begin(() => ask(api.POST('/api/objects/{object_id}/captures', { params: { path }, body: plan })))
  /** Sends files here; each becomes a pass. */
  const bringIn = (files: File[], said: Said = {}) => {
    dismiss()
    return run(() => arrivals.bring(id, files, said))
  }
  /** Makes the pass that is held one of the object, with the frames first to last (from 1), and has it placed. */
  const accept = (first: number, last: number) =>
    run(async () => {
      const kept = held.value
      if (!kept) return
      const body = { first, last, place: true }
      const params = { path: { capture_id: kept.id } }
      const { job: placing } = await ask(api.POST('/api/captures/{capture_id}', { params, body }))
      await load()
      if (!placing) return
      job.value = placing
      jobs.take(placing)
    })
  const throwAway = () =>
    run(async () => {
      if (!held.value) return
      await ask(api.DELETE('/api/captures/{capture_id}', { params: { path: { capture_id: held.value.id } } }))
      await load()
    })
  /** Copies passes of another object here. */
  const bringOver = (source: string, passes: string[]) =>
    begin(() =>
      ask(api.POST('/api/objects/{object_id}/passes', { params: { path }, body: { source, passes } })),
    )
  const move = (which: 'undo' | 'redo') =>
    run(async () => {
      const call = which === 'undo' ? '/api/objects/{object_id}/undo' : '/api/objects/{object_id}/redo'
      // A load that began before must not bring back what was; one that begins meanwhile is newer than this.
      const mine = ++ticket
      const answer = await ask(api.POST(call, { params: { path } }))
      if (mine === ticket) bench.value = answer
    })
  const act = (what: Exclude<JobAct, 'again'>) => run(async () => job.value && jobs.act(job.value, what))
  /** Somebody else's object, shown to look at. */
  const lookOnly = computed(() => bench.value?.role === 'look')
  const busy = computed(() => asking.value || job.value != null || lookOnly.value)
  const notice = computed(() => fault.value || lastFault.value)
  /** The last step of each operation that led to what is shown. */
  const doneBy = computed(() => {
    const out: Record<string, StepView> = {}
    for (const s of bench.value?.steps ?? []) if (!s.undone) out[s.operation] = s
    return out
  })
  /** The capture that is running on this bench. */
  const capturing = computed(() =>
    job.value?.kind === 'capture' && job.value.state === 'running' ? job.value : null,
  )
  /** A pass that was taken, and is to be accepted or thrown away. */
  const held = computed(() => bench.value?.held ?? null)
  function dismiss() {
    fault.value = ''
    lastFault.value = ''
    leftOut.value = ''
  }
  return {
    bench,
    catalogue,
    job,
    busy,
    lookOnly,
    notice,
    leftOut,
    doneBy,
    capturing,
    held,
    accept,
    throwAway,
    start,
    load,
    recipe,
    operation,
    deliver,
    capture,
    bringIn,
    bringOver,
    move,
    act,
    dismiss,
  }
}
