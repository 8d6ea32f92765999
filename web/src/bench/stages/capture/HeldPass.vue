<script setup lang="ts">
import { computed, ref, watch } from 'vue'
import type { HeldPass } from '@/api/client'
import { percent } from '@/composables/format'

const props = defineProps<{ held: HeldPass; busy: boolean }>()
const emit = defineEmits<{ accept: [number, number]; drop: [] }>()
const first = ref(1)
const last = ref(props.held.frames)
watch(
  () => props.held.id,
  () => {
    first.value = 1
    last.value = props.held.frames
  },
)
const kept = computed(() => last.value - first.value + 1)
const outlook = computed(() => props.held.outlook as { seen: number } | null)
const accept = () => !props.busy && emit('accept', first.value, last.value)
const drop = () => !props.busy && emit('drop')
defineExpose({ accept, drop })
</script>

<template>
  <section data-test="held-pass">
    <h3>“{{ held.title }}” is taken</h3>
    <p>
      <b class="num">{{ held.frames }}</b> of {{ held.planned }} frames<template v-if="outlook">
        · sees about {{ percent(outlook.seen, 0) }}</template
      >. Look at it from all sides, then keep it or not.
    </p>
    <template v-if="held.frames > 2">
      <label class="trim"
        ><span
          >From frame <b class="num">{{ first }}</b></span
        ><input v-model.number="first" type="range" min="1" :max="last" data-test="trim-first"
      /></label>
      <label class="trim"
        ><span
          >to frame <b class="num">{{ last }}</b></span
        ><input v-model.number="last" type="range" :min="first" :max="held.frames" data-test="trim-last"
      /></label>
    </template>
    <p class="quiet">
      It is placed on what is there at once<template v-if="kept < held.frames"
        >; {{ held.frames - kept }} frames stay out, and can come back</template
      >.
    </p>
    <div class="two">
      <button class="plain-button" :disabled="busy" data-test="throw-away" @click="drop">
        Throw away <kbd class="key">Del</kbd>
      </button>
      <button class="main-button" :disabled="busy" data-test="accept-pass" @click="accept">
        Accept <kbd class="key">A</kbd>
      </button>
    </div>
  </section>
</template>

<style scoped>
section {
  display: flex;
  flex-direction: column;
  gap: 8px;
  padding: 12px 16px;
  background: var(--paper);
}
h3 {
  font-size: 15px;
  font-weight: 500;
}
.trim {
  display: grid;
  grid-template-columns: 104px 1fr;
  align-items: center;
}
.trim input {
  accent-color: var(--verdigris);
  min-width: 0;
  height: 24px;
}
.two {
  display: grid;
  grid-template-columns: auto 1fr;
  gap: 8px;
}
.two > * {
  white-space: nowrap;
}
</style>
