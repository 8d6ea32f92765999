<script setup lang="ts">
import { computed } from 'vue'
import { useBenchContext } from '@/bench/context'
import { clock, percent } from '@/composables/format'

const { bench, view, stage } = useBenchContext()
const { job, notice, leftOut, lookOnly, stuck } = bench
const fault = computed(() => notice.value || view.fault.value)
const left = computed(() =>
  job.value?.seconds_left == null ? 'time not known yet' : `${clock(job.value.seconds_left)} left`,
)
function close() {
  bench.dismiss()
  view.fault.value = ''
}
</script>

<template>
  <div
    v-if="job && !(bench.capturing.value && stage === 'capture')"
    class="spoken"
    role="status"
    data-test="progress"
  >
    <div>
      <b>{{ job.title }}</b>
      <span v-if="job.steps > 1 && ['recipe', 'replay'].includes(job.kind)" class="quiet">
        step {{ job.step }} of {{ job.steps }}</span
      >
      <div>{{ job.message }}</div>
    </div>
    <div class="bar"><i :style="{ width: `${job.fraction * 100}%` }" /></div>
    <div class="row">
      <span class="num">{{ percent(job.fraction, 0) }} · {{ left }}</span
      ><button
        v-if="!lookOnly"
        class="link"
        :disabled="job.stopping"
        data-test="cancel"
        @click="bench.act('cancel')"
      >
        {{ job.stopping ? 'Stopping…' : 'Stop' }} <kbd class="key">Esc</kbd>
      </button>
    </div>
  </div>
  <div v-else-if="fault" class="fault" role="alert" data-test="fault">
    <b>That did not work.</b> {{ fault }}
    <span class="quiet">What was there before is safe.</span>
    <button class="link" @click="close">Close</button>
  </div>
  <div v-else-if="leftOut" class="fault" role="alert" data-test="left-out">
    <b>The rest is here; this was left out.</b>
    <p v-for="line in leftOut.split('\n')" :key="line">{{ line }}</p>
    <button v-if="stuck" class="link" data-test="go-on-without" @click="bench.goOnWithout(stuck)">
      Go on without it
    </button>
    <button class="link" @click="close">Close</button>
  </div>
  <div v-else-if="lookOnly" class="spoken small" data-test="look-only">
    You may look at this object; only its owner’s people change it.
  </div>
  <div v-else-if="view.loading.value" class="spoken small" role="status">Fetching the geometry…</div>
</template>

<style scoped>
.spoken,
.fault {
  margin-top: 8px;
  width: 330px;
  max-width: 100%;
  padding: 9px 14px;
  border-radius: 8px;
  background: var(--sheet);
  box-shadow: var(--lift);
  display: flex;
  flex-direction: column;
  gap: 5px;
}
.spoken.small {
  width: max-content;
  color: var(--ink-2);
}
.row {
  display: flex;
  justify-content: space-between;
  align-items: center;
}
.fault {
  border-left: 3px solid var(--oxblood);
  display: block;
}
.fault p {
  margin: 3px 0;
}
</style>
