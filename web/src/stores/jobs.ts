import { defineStore } from 'pinia'
import { computed, ref, shallowRef } from 'vue'
import { api, ask, type JobView } from '@/api/client'

type Listener = (job: JobView) => void
/** An object that an action changed, with the snapshot it shows now. */
export interface ObjectChange {
  id: string
  snapshot: string | null
  /** Whether the closer look behind the steps is done. */
  looked?: boolean
}
/** What may be done with a job; the last three with a capture that runs. */
export type JobAct = 'cancel' | 'finish' | 'again' | 'pause' | 'go_on' | 'step_back' | 'shoot'
const ENDED = ['done', 'failed', 'cancelled']
/** After how long a stream that the server would not open is asked for again, each time twice as long. */
const AGAIN_MS = { first: 2000, most: 60_000 }

/** The person's jobs, kept true by server-sent events. */
export const useJobs = defineStore('jobs', () => {
  const jobs = shallowRef<JobView[]>([])
  const connected = ref(false)
  const listeners = new Set<Listener>()
  const instrumentListeners = new Set<() => void>()
  const objectListeners = new Set<(change: ObjectChange) => void>()
  let source: EventSource | null = null
  let again = AGAIN_MS.first

  const running = computed(() => jobs.value.filter((j) => !ENDED.includes(j.state)))

  /** Of two views of a job the later one stands; an answer does not tell all that events do. */
  function take(told: JobView) {
    const held = jobs.value.find((j) => j.id === told.id)
    if (held && Date.parse(told.changed) < Date.parse(held.changed)) return
    const frames = told.frames ?? held?.frames ?? null
    const job = { ...told, frames, outlook: told.outlook ?? held?.outlook }
    const rest = jobs.value.filter((j) => j.id !== job.id)
    jobs.value = [job, ...rest].sort((a, b) => b.created.localeCompare(a.created))
    listeners.forEach((listen) => listen(job))
  }
  /** All jobs anew; those who listen hear of what happened to a job while the stream was broken. */
  async function load() {
    const before = jobs.value.map((j) => j.id)
    const told = new Map((await ask(api.GET('/api/jobs'))).map((j) => [j.id, j]))
    jobs.value = jobs.value.filter((j) => told.has(j.id) || !before.includes(j.id))
    const held = new Map(jobs.value.map((j) => [j.id, j]))
    const fresh = [...told.values()].filter((j) => !held.has(j.id))
    jobs.value = [...fresh, ...jobs.value].sort((a, b) => b.created.localeCompare(a.created))
    for (const [id, { changed }] of held)
      if (told.has(id) && told.get(id)!.changed !== changed) take(told.get(id)!)
  }
  function connect() {
    if (source) return
    const own = (source = new EventSource('/api/events'))
    own.onopen = () => {
      connected.value = true
      again = AGAIN_MS.first
      void load()
    }
    // A stream that broke is asked for again by the browser; one that was refused is not.
    own.onerror = () => {
      connected.value = false
      if (own.readyState !== EventSource.CLOSED) return
      setTimeout(() => {
        if (source !== own) return
        source = null
        connect()
      }, again)
      again = Math.min(2 * again, AGAIN_MS.most)
    }
    source.addEventListener('job', (e) => take(JSON.parse((e as MessageEvent).data)))
    source.addEventListener('instrument', () => instrumentListeners.forEach((listen) => listen()))
    source.addEventListener('object', (e) => takeObject(JSON.parse((e as MessageEvent).data)))
  }
  function disconnect() {
    source?.close()
    source = null
    connected.value = false
  }
  function listen(listener: Listener): () => void {
    listeners.add(listener)
    return () => listeners.delete(listener)
  }
  function takeObject(change: ObjectChange) {
    objectListeners.forEach((listen) => listen(change))
  }
  function listenToObjects(listener: (change: ObjectChange) => void): () => void {
    objectListeners.add(listener)
    return () => objectListeners.delete(listener)
  }
  function listenToInstruments(listener: () => void): () => void {
    instrumentListeners.add(listener)
    return () => instrumentListeners.delete(listener)
  }
  async function act(job: JobView, action: JobAct) {
    take(await ask(api.POST('/api/jobs/{job_id}/{action}', { params: { path: { job_id: job.id, action } } })))
  }
  return {
    jobs,
    running,
    connected,
    load,
    connect,
    disconnect,
    listen,
    listenToObjects,
    listenToInstruments,
    act,
    take,
    takeObject,
  }
})

/** Whether a job has come to its end. */
export const hasEnded = (job: JobView) => ENDED.includes(job.state)
