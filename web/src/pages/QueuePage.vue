<script setup lang="ts">
import { computed, onMounted, ref, shallowRef } from 'vue'
import { api, ask, type JobView, type LogLine } from '@/api/client'
import { clock } from '@/composables/format'
import { useAsync } from '@/composables/useAsync'
import TellingSwitches from '@/components/TellingSwitches.vue'
import { hasEnded, useJobs } from '@/stores/jobs'
import { useTelling } from '@/stores/telling'

const jobs = useJobs()
const telling = useTelling()
const { fault, run } = useAsync()
onMounted(() => run(() => jobs.load()))
const STATES: Record<string, string> = {
  queued: 'waiting',
  running: 'computing',
  done: 'done',
  failed: 'failed',
  cancelled: 'stopped',
}
/** What runs, then what waits, the next one first. */
const underWay = computed(() => {
  const rows = jobs.jobs.filter((j) => !hasEnded(j))
  const waiting = rows.filter((j) => j.state === 'queued')
  waiting.sort(
    (a, b) => a.place - b.place || Number(a.batch) - Number(b.batch) || a.created.localeCompare(b.created),
  )
  return [...rows.filter((j) => j.state !== 'queued'), ...waiting]
})
const groups = computed(() => [
  { name: 'Under way', rows: underWay.value, none: 'Nothing is computing.' },
  { name: 'Ended', rows: jobs.jobs.filter(hasEnded), none: 'Nothing has been computed yet.' },
])
let dragged = ''
/** Put a job that waits before another one. */
async function put(id: string, before: string) {
  const order = underWay.value.filter((j) => j.state === 'queued').map((j) => j.id)
  if (id === before || !order.includes(id) || !order.includes(before)) return
  const rest = order.filter((x) => x !== id)
  const at = rest.indexOf(before) + (order.indexOf(id) < order.indexOf(before) ? 1 : 0)
  rest.splice(at, 0, id)
  await run(async () => {
    const rows = await ask(api.POST('/api/jobs/order', { body: { jobs: rest } }))
    rows.forEach(jobs.take)
  })
}
function drop(before: JobView) {
  void put(dragged, before.id)
  dragged = ''
}
function nudge(job: JobView, by: number) {
  const order = underWay.value.filter((j) => j.state === 'queued')
  const other = order[order.findIndex((j) => j.id === job.id) + by]
  if (other) void put(job.id, other.id)
}
const told = ref('')
const log = shallowRef<LogLine[]>([])
async function tell(job: JobView) {
  told.value = told.value === job.id ? '' : job.id
  log.value = []
  if (told.value)
    await run(
      async () =>
        (log.value = await ask(api.GET('/api/jobs/{job_id}/log', { params: { path: { job_id: job.id } } }))),
    )
}
function took(j: JobView) {
  if (!j.started || !j.finished) return '–'
  return clock((Date.parse(j.finished) - Date.parse(j.started)) / 1000)
}
const when = (j: JobView) =>
  new Date(j.created).toLocaleString('en-GB', {
    day: 'numeric',
    month: 'short',
    hour: '2-digit',
    minute: '2-digit',
  })
</script>

<template>
  <main class="page">
    <header>
      <h1>Queue</h1>
      <TellingSwitches v-model="telling.ways" />
    </header>
    <p v-if="fault" role="alert" class="fault">{{ fault }}</p>
    <section v-for="g in groups" :key="g.name">
      <h2>{{ g.name }}</h2>
      <p v-if="!g.rows.length" class="quiet">{{ g.none }}</p>
      <table v-else>
        <thead>
          <tr>
            <th>Object</th>
            <th class="what">What</th>
            <th class="state">State</th>
            <th class="num">Begun</th>
            <th class="num">{{ g.name === 'Ended' ? 'Took' : 'Left' }}</th>
            <td class="act" />
          </tr>
        </thead>
        <tbody>
          <template v-for="j in g.rows" :key="j.id">
            <tr
              :data-state="j.state"
              :draggable="j.state === 'queued'"
              data-test="job"
              @dragstart="dragged = j.id"
              @dragover.prevent
              @drop.prevent="drop(j)"
            >
              <td>
                <RouterLink :to="`/objects/${j.object_id}`">{{ j.object_title }}</RouterLink>
              </td>
              <td>
                {{ j.title }}
                <button class="link tell" :aria-expanded="told === j.id" data-test="job-log" @click="tell(j)">
                  Log
                </button>
              </td>
              <td class="state">
                <b>{{ STATES[j.state] }} </b>
                <span class="quiet">{{ j.error || (hasEnded(j) ? '' : j.message) }}</span>
                <div v-if="!hasEnded(j)" class="bar"><i :style="{ width: `${j.fraction * 100}%` }" /></div>
              </td>
              <td class="num">{{ when(j) }}</td>
              <td class="num">{{ hasEnded(j) ? took(j) : clock(j.seconds_left) }}</td>
              <td class="act">
                <template v-if="j.state === 'queued'">
                  <button
                    class="link"
                    :aria-label="`Do ${j.object_title} sooner`"
                    data-test="sooner"
                    @click="nudge(j, -1)"
                  >
                    ↑
                  </button>
                  <button class="link" :aria-label="`Do ${j.object_title} later`" @click="nudge(j, 1)">
                    ↓
                  </button>
                </template>
                <button
                  v-if="!hasEnded(j)"
                  class="link"
                  :disabled="j.stopping"
                  @click="run(() => jobs.act(j, 'cancel'))"
                >
                  {{ j.stopping ? 'Stopping…' : 'Stop' }}
                </button>
                <button v-else-if="j.repeatable" class="link" @click="run(() => jobs.act(j, 'again'))">
                  Run again
                </button>
              </td>
            </tr>
            <tr v-if="told === j.id" data-test="job-told">
              <td colspan="6" class="log">
                <p v-if="!log.length" class="quiet">Nothing is written yet.</p>
                <p v-for="(line, n) in log" :key="n">
                  <span class="num">{{ clock(line.seconds) }}</span> {{ line.words }}
                </p>
              </td>
            </tr>
          </template>
        </tbody>
      </table>
    </section>
  </main>
</template>

<style scoped>
.page {
  padding: 26px 32px;
  max-width: 1280px;
  margin: 0 auto;
}
header {
  display: flex;
  justify-content: space-between;
  align-items: center;
  margin-bottom: 14px;
}
h1 {
  font-size: 26px;
}
h2 {
  font-size: 16px;
  margin: 18px 0 6px;
}
b {
  margin-right: 6px;
}
table {
  table-layout: fixed;
  width: 100%;
  border-collapse: collapse;
  background: var(--sheet);
  border: var(--hair);
}
th {
  text-align: left;
  font: 600 13px var(--cond);
  color: var(--ink-2);
}
th.num {
  text-align: right;
}
th,
td {
  padding: 8px 12px;
  border-bottom: var(--hair);
  vertical-align: top;
}
.what {
  width: 24%;
}
.state {
  width: 34%;
}
.state .bar {
  margin-top: 5px;
}
[data-state='failed'] b {
  color: var(--oxblood);
}
.act {
  text-align: right;
  width: 116px;
  white-space: nowrap;
}
.act .link {
  margin-left: 8px;
}
.tell {
  margin-left: 4px;
  padding: 2px 4px;
  font-weight: 500;
}
.log {
  background: var(--paper);
}
.log .num {
  display: inline-block;
  width: 44px;
  margin-right: 8px;
  color: var(--ink-2);
}
tr[draggable='true'] {
  cursor: grab;
}
td a {
  display: inline-block;
  padding: 4px 0;
  margin: -4px 0;
}
.fault {
  color: var(--oxblood);
}
</style>
