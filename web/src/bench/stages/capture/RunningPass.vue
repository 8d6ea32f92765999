<script setup lang="ts">
import { watch } from 'vue'
import type { JobView } from '@/api/client'
import PassActs from '@/bench/stages/capture/PassActs.vue'
import { chime } from '@/composables/chime'
import { clock, percent } from '@/composables/format'
import type { JobAct } from '@/stores/jobs'

const props = defineProps<{ job: JobView; photo: string | null }>()
const emit = defineEmits<{ act: [Exclude<JobAct, 'again'>] }>()
/** How much more another way must see to be worth naming. */
const WORTH = 0.03

// Standing still because somebody wished so needs no sound.
watch(
  () => props.job.waiting,
  (now) => now && !props.job.paused && !props.job.shots && chime(false),
)
</script>

<template>
  <section data-test="running-pass">
    <img v-if="photo" :src="photo" class="photo" alt="Photograph of the newest frame" />
    <p>
      <b>{{ job.message }}</b>{{ ' ' }}
      <span v-if="job.seconds_left != null && !job.waiting" class="quiet num"
        >{{ clock(job.seconds_left) }} left</span
      >
    </p>
    <div v-if="!job.shots" class="bar"><i :style="{ width: `${job.fraction * 100}%` }" /></div>
    <p v-if="job.waiting" class="waiting" role="alert" data-test="waiting">{{ job.waiting }}</p>
    <p v-if="job.outlook" data-test="outlook">
      This turn will see about <b class="num">{{ percent(job.outlook.seen, 0) }}</b> of it<template
        v-if="job.outlook.best_seen > job.outlook.seen + WORTH"
        >; {{ job.outlook.best }} would see {{ percent(job.outlook.best_seen, 0) }}</template
      >.
    </p>
    <PassActs class="acts" :job="job" keep="Stop, keep" @act="(what) => emit('act', what)" />
  </section>
</template>

<style scoped>
section > p,
section > .bar,
.acts {
  margin: 8px 16px;
}
.photo {
  display: block;
  width: 100%;
  background: var(--sunk);
}
.waiting {
  padding: 8px 10px;
  border-left: 3px solid var(--ochre);
  background: var(--paper);
}
.acts {
  padding-bottom: 6px;
}
</style>
