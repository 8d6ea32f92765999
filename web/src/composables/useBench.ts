import { computed, onBeforeUnmount, ref, shallowRef } from 'vue'
import { api, ask, uploadCapture, type Bench, type Catalogue, type JobView } from '@/api/client'
import { announce } from '@/composables/announce'
import { useAsync } from '@/composables/useAsync'
import { hasEnded, useJobs } from '@/stores/jobs'

/** State of one object's bench, kept true while its jobs run. */
export function useBench(id: string) {
  const jobs = useJobs()
  const bench = shallowRef<Bench | null>(null)
  const catalogue = shallowRef<Catalogue | null>(null)
  const job = shallowRef<JobView | null>(null)
  const lastFault = ref('')
  const upload = ref<number | null>(null)
  const { busy: asking, fault, run } = useAsync()
  const path = { object_id: id }
  let ticket = 0
  let seenMessage = ''

  async function load() {
    const mine = ++ticket
    const answer = await ask(api.GET('/api/objects/{object_id}', { params: { path } }))
    if (mine !== ticket) return
    bench.value = answer
    job.value = answer.job ?? null
  }
  const reload = () => load().catch((e: Error) => (lastFault.value = e.message))
  const start = () =>
    run(async () => {
      catalogue.value = await ask(api.GET('/api/catalogue'))
      await load()
    })

  const unlisten = jobs.listen((changed) => {
    if (changed.object_id !== id) return
    const ended = hasEnded(changed)
    const news = changed.message.split(' ')[0]
    job.value = ended ? null : changed
    if (ended) {
      if (changed.state === 'failed') lastFault.value = changed.error
      announce(`${changed.object_title}: ${changed.title} ${changed.state}`)
      void reload()
    } else if (changed.kind === 'recipe' && news !== seenMessage) {
      seenMessage = news
      void reload()
    }
  })
  onBeforeUnmount(unlisten)

  async function begin(call: () => Promise<JobView>) {
    lastFault.value = ''
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
  const capture = (plan: {
    title: string
    stops: number
    elevation_deg: number
    tip_deg: number
    tip_about_deg: number
  }) => begin(() => ask(api.POST('/api/objects/{object_id}/captures', { params: { path }, body: plan })))
  const importFile = (file: File) =>
    begin(async () => {
      upload.value = 0
      try {
        return await uploadCapture(id, file, (share) => (upload.value = share))
      } finally {
        upload.value = null
      }
    })
  const move = (which: 'undo' | 'redo') =>
    run(async () => {
      const call = which === 'undo' ? '/api/objects/{object_id}/undo' : '/api/objects/{object_id}/redo'
      bench.value = await ask(api.POST(call, { params: { path } }))
    })
  const act = (what: 'cancel' | 'finish') => run(async () => job.value && jobs.act(job.value, what))
  const busy = computed(() => asking.value || job.value != null)
  const told = computed(() => fault.value || lastFault.value)
  function dismiss() {
    fault.value = ''
    lastFault.value = ''
  }
  return {
    bench,
    catalogue,
    job,
    busy,
    told,
    upload,
    start,
    load,
    recipe,
    operation,
    capture,
    importFile,
    move,
    act,
    dismiss,
  }
}
