<script setup lang="ts">
import { computed, ref } from 'vue'
import type { StepView } from '@/api/client'
import { clock } from '@/composables/format'

/** What is known of a step that is looked back at, and what can be done from there. */
const props = defineProps<{ step: StepView; marked: string; changeable: boolean; last: boolean }>()
const emit = defineEmits<{ goOn: []; change: []; leaveOut: []; asItWas: [] }>()
const drawn = ref(false)
const when = computed(() =>
  new Date(props.step.created).toLocaleString('en-GB', {
    day: 'numeric',
    month: 'short',
    hour: '2-digit',
    minute: '2-digit',
  }),
)
</script>

<template>
  <div class="details" data-test="step-details">
    <img v-show="drawn" :src="`/api/snapshots/${step.after}/picture`" alt="" @load="drawn = true" />
    <p class="quiet">
      {{ step.who ? `${step.who}, ` : '' }}{{ when }}<template v-if="step.known">, known from before</template
      ><template v-else>, {{ clock(step.seconds) }}</template
      ><template v-if="step.version">, version {{ step.version }}</template>
    </p>
    <span class="acts">
      <button v-if="!last" class="link" data-test="go-on" @click="emit('goOn')">Go on from here</button>
      <button
        v-if="changeable && marked !== 'left out'"
        class="link"
        data-test="change-step"
        @click="emit('change')"
      >
        Change…
      </button>
      <button v-if="marked" class="link" @click="emit('asItWas')">As it was</button>
      <button v-else class="link" data-test="leave-out" @click="emit('leaveOut')">Leave out</button>
    </span>
  </div>
</template>

<style scoped>
.details {
  padding: 2px 6px 6px 23px;
  overflow: hidden;
}
img {
  float: right;
  height: 62px;
  max-width: 84px;
  object-fit: contain;
  filter: drop-shadow(0 3px 3px rgb(40 30 10 / 25%));
}
p {
  font-size: 12px;
}
.acts {
  display: flex;
  flex-wrap: wrap;
  gap: 2px 12px;
}
</style>
