<script setup lang="ts">
import { computed, onMounted } from 'vue'
import type { JobView } from '@/api/client'
import { clock } from '@/composables/format'
import { useAsync } from '@/composables/useAsync'
import { hasEnded, useJobs } from '@/stores/jobs'

const jobs = useJobs()
const { fault, run } = useAsync()
onMounted(() => run(() => jobs.load()))
const STATES: Record<string, string> = {
  queued: 'waiting',
  running: 'computing',
  done: 'done',
  failed: 'failed',
  cancelled: 'stopped',
}
const groups = computed(() => [
  { name: 'Under way', rows: jobs.jobs.filter((j) => !hasEnded(j)), none: 'Nothing is computing.' },
  { name: 'Ended', rows: jobs.jobs.filter(hasEnded), none: 'Nothing has been computed yet.' },
])
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
    <h1>Queue</h1>
    <p v-if="fault" role="alert" class="fault">{{ fault }}</p>
    <section v-for="g in groups" :key="g.name">
      <h2>{{ g.name }}</h2>
      <p v-if="!g.rows.length" class="quiet">{{ g.none }}</p>
      <table v-else>
        <thead>
          <tr>
            <th>Object</th>
            <th>What</th>
            <th class="state">State</th>
            <th class="num">Begun</th>
            <th class="num">{{ g.name === 'Ended' ? 'Took' : 'Left' }}</th>
            <td class="act" />
          </tr>
        </thead>
        <tbody>
          <tr v-for="j in g.rows" :key="j.id" :data-state="j.state">
            <td>
              <RouterLink :to="`/objects/${j.object_id}`">{{ j.object_title }}</RouterLink>
            </td>
            <td>{{ j.title }}</td>
            <td class="state">
              <b>{{ STATES[j.state] }} </b>
              <span class="quiet">{{ j.error || (hasEnded(j) ? '' : j.message) }}</span>
              <div v-if="!hasEnded(j)" class="bar"><i :style="{ width: `${j.fraction * 100}%` }" /></div>
            </td>
            <td class="num">{{ when(j) }}</td>
            <td class="num">{{ hasEnded(j) ? took(j) : clock(j.seconds_left) }}</td>
            <td class="act">
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
h1 {
  font-size: 26px;
  margin-bottom: 14px;
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
.state {
  width: 44%;
}
.state .bar {
  margin-top: 5px;
}
[data-state='failed'] b {
  color: var(--oxblood);
}
.act {
  text-align: right;
  width: 90px;
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
