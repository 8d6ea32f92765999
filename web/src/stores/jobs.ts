import { defineStore } from 'pinia'
import { computed, ref, shallowRef } from 'vue'
import { api, ask, type JobView } from '@/api/client'

type Listener = (job: JobView) => void
/** An object that an action changed, with the snapshot it shows now. */
export interface ObjectChange {
  id: string
  snapshot: string | null
}
const ENDED = ['done', 'failed', 'cancelled']

/** The person's jobs, kept true by server-sent events. */
export const useJobs = defineStore('jobs', () => {
  const jobs = shallowRef<JobView[]>([])
  const connected = ref(false)
  const listeners = new Set<Listener>()
  const objectListeners = new Set<(change: ObjectChange) => void>()
  let source: EventSource | null = null

  const running = computed(() => jobs.value.filter((j) => !ENDED.includes(j.state)))

  function take(job: JobView) {
    const rest = jobs.value.filter((j) => j.id !== job.id)
    jobs.value = [job, ...rest].sort((a, b) => b.created.localeCompare(a.created))
    listeners.forEach((listen) => listen(job))
  }
  async function load() {
    jobs.value = await ask(api.GET('/api/jobs'))
  }
  function connect() {
    if (source) return
    source = new EventSource('/api/events')
    source.onopen = () => {
      connected.value = true
      void load()
    }
    source.onerror = () => (connected.value = false)
    source.addEventListener('job', (e) => take(JSON.parse((e as MessageEvent).data)))
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
  async function act(job: JobView, action: 'cancel' | 'finish' | 'again') {
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
    act,
    take,
    takeObject,
  }
})

/** Whether a job has come to its end. */
export const hasEnded = (job: JobView) => ENDED.includes(job.state)
