<script setup lang="ts">
import { computed } from 'vue'
import type { JobView } from '@/api/client'
import type { HandFigures } from '@/bench/stages/capture/hand/hand'
import PassActs from '@/bench/stages/capture/PassActs.vue'
import { percent } from '@/composables/format'
import type { JobAct } from '@/stores/jobs'

const props = defineProps<{ job: JobView; figures: HandFigures | null; loud: boolean }>()
const emit = defineEmits<{ act: [Exclude<JobAct, 'again'>]; next: []; loud: [boolean]; cover: [boolean] }>()
const first = computed(() => props.figures?.nexts[0])
const others = computed(() => props.figures?.nexts.slice(1) ?? [])
</script>

<template>
  <section class="hand" data-test="hand-pass">
    <h2>Is it enough?</h2>
    <p class="share">
      <b class="num" data-test="hand-enough">{{ percent(figures?.enough ?? 0, 0) }}</b>
      <span>of what this pose can show is seen well enough</span>
    </p>
    <p v-if="job.waiting" class="waiting" role="alert" data-test="waiting">{{ job.waiting }}</p>
    <div v-if="first" class="next" data-test="hand-next">
      <h3>Next <kbd class="key">N</kbd></h3>
      <p>
        {{ first.words }}. Adds about <b class="num">{{ percent(first.gain, 0) }}</b>,
        <span class="num">{{ percent(first.common, 0) }}</span> in common.
      </p>
      <dl class="figures">
        <template v-for="n in others" :key="n.words"
          ><dt>then {{ n.words.charAt(0).toLowerCase() + n.words.slice(1) }}</dt>
          <dd class="num">+ {{ percent(n.gain, 0) }}</dd></template
        >
      </dl>
      <button class="plain-button" data-test="take-next" @click="emit('next')">Hold it there</button>
    </div>
    <h3>Frames</h3>
    <dl class="figures" data-test="hand-counts">
      <dt>in</dt>
      <dd class="num">{{ figures?.counts.in ?? 0 }}</dd>
      <dt>lost, found again</dt>
      <dd class="num">{{ figures?.counts.lost ?? 0 }}, {{ figures?.counts.found ?? 0 }}</dd>
      <template v-if="figures?.last_turn != null"
        ><dt>last full turn added</dt>
        <dd class="num">{{ percent(figures.last_turn) }}</dd></template
      >
    </dl>
    <p v-if="figures?.adds_nothing" class="quiet">More turns at this height add nothing.</p>
    <p v-if="figures?.slips.length" class="waiting">
      It slipped at frame {{ figures.slips[figures.slips.length - 1][0] + 1 }}; those frames are left out.
      Step back to before, or go on.
    </p>
    <PassActs
      :job="job"
      keep="Finish pass"
      back-hint="A second back; or mark a place on the track below"
      @act="(what) => emit('act', what)"
    >
      <label class="ticked"
        ><input
          type="checkbox"
          :checked="loud"
          data-test="hand-sounds"
          @change="emit('loud', ($event.target as HTMLInputElement).checked)"
        />
        Sounds</label
      >
      <label class="ticked" title="Something is before the lens of the stand-in"
        ><input
          type="checkbox"
          data-test="cover-lens"
          @change="emit('cover', ($event.target as HTMLInputElement).checked)"
        />
        Cover the lens</label
      >
    </PassActs>
    <p v-if="!figures?.sweep" class="quiet keys">
      Steer: arrows, or drag with <kbd class="key">V</kbd> on. <kbd class="key">Shift</kbd> nearer, farther,
      turns the tray; <kbd class="key">Alt</kbd> shifts the aim.
    </p>
  </section>
</template>

<style scoped>
.hand {
  display: flex;
  flex-direction: column;
  gap: 7px;
  padding: 12px 16px;
}
h2 {
  font-size: 20px;
}
h3 {
  display: flex;
  justify-content: space-between;
  font-size: 14px;
  font-weight: 600;
}
.share {
  display: flex;
  align-items: center;
  gap: 10px;
}
.share b {
  font: 600 34px var(--cond);
}
.next {
  padding: 9px 16px;
  margin: 0 -16px;
  background: var(--paper);
  display: flex;
  flex-direction: column;
  gap: 5px;
}
.waiting {
  padding: 8px 10px;
  border-left: 3px solid var(--ochre);
  background: var(--paper);
}
.keys {
  font-size: 12px;
}
</style>
