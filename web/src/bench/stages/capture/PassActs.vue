<script setup lang="ts">
import type { JobView } from '@/api/client'
import type { JobAct } from '@/stores/jobs'

/** What is done with a pass that runs: the main thing, a step back, keep it, throw it away. */
defineProps<{ job: JobView; keep: string; backHint?: string }>()
const emit = defineEmits<{ act: [Exclude<JobAct, 'again'>] }>()
</script>

<template>
  <div class="acts">
    <button v-if="job.shots" class="main-button wide" data-test="take-shot" @click="emit('act', 'shoot')">
      Take a shot <kbd class="key">PgDn</kbd>
    </button>
    <button
      v-else
      class="main-button wide"
      data-test="pause-pass"
      @click="emit('act', job.paused ? 'go_on' : 'pause')"
    >
      {{ job.paused ? 'Go on' : 'Pause' }} <kbd class="key">PgDn</kbd>
    </button>
    <button
      class="plain-button"
      :disabled="!job.frames"
      :title="backHint"
      data-test="step-back"
      @click="emit('act', 'step_back')"
    >
      Step back <kbd class="key">PgUp</kbd>
    </button>
    <button
      class="plain-button"
      :disabled="!job.frames"
      data-test="finish-pass"
      @click="emit('act', 'finish')"
    >
      {{ keep }} <kbd class="key">End</kbd>
    </button>
    <button class="plain-button wide" data-test="drop-pass" @click="emit('act', 'cancel')">
      Stop and throw away <kbd class="key">Esc</kbd>
    </button>
    <slot />
  </div>
</template>

<style scoped>
.acts {
  display: grid;
  grid-template-columns: 1fr 1fr;
  gap: 8px;
}
.wide {
  grid-column: 1 / -1;
}
</style>
