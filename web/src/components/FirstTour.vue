<script setup lang="ts">
import { computed, nextTick, onBeforeUnmount, onMounted, ref, watch } from 'vue'

/** Four steps for who is here for the first time; each points at what it speaks of. */
const props = defineProps<{ onBench: boolean }>()
const emit = defineEmits<{ done: [] }>()
const STEPS = [
  {
    title: 'The shelf',
    words: 'Every object stands here, with what is still to do on it. Open one that was captured: click it.',
    at: '[data-test=shelf-item]',
    bench: false,
  },
  {
    title: 'The thread of stages',
    words:
      'From Capture to Deliver. A filled knot is done, a ring is where you are, an ochre count is what to look at.',
    at: '#head-middle',
    bench: true,
  },
  {
    title: 'Findings and run sheet',
    words:
      'What the program sees wrong, each with what mends it; below, every step. Click one to look back, change it, and all that follows is done again.',
    at: '.findings',
    bench: true,
  },
  {
    title: 'The worksheet',
    words:
      'What to do now. Run recipe does it all in one go; each card does one thing. ? shows every key, Ctrl K finds any action.',
    at: '[aria-label=Worksheet]',
    bench: true,
  },
]
const at = ref(0)
const step = computed(() => STEPS[at.value])
/** On the shelf the tour waits for an object to be opened. */
const waits = computed(() => step.value.bench && !props.onBench)
let ringed: Element | null = null
function ring() {
  ringed?.classList.remove('tour-ring')
  ringed = waits.value ? null : document.querySelector(step.value.at)
  ringed?.classList.add('tour-ring')
}
watch(
  () => [at.value, props.onBench],
  () => void nextTick(() => window.setTimeout(ring, 250)),
)
watch(
  () => props.onBench,
  (now) => now && at.value === 0 && (at.value = 1),
)
onMounted(() => window.setTimeout(ring, 600))
onBeforeUnmount(() => ringed?.classList.remove('tour-ring'))
function next() {
  if (at.value === STEPS.length - 1) emit('done')
  else at.value += 1
}
</script>

<template>
  <aside class="tour" aria-label="First steps" role="status" data-test="tour">
    <p class="quiet">{{ at + 1 }} of {{ STEPS.length }}</p>
    <h2>{{ step.title }}</h2>
    <p>{{ waits ? 'Open an object on the shelf, and the tour goes on there.' : step.words }}</p>
    <div>
      <button class="link" data-test="skip-tour" @click="emit('done')">Skip the tour</button>
      <button v-if="!waits" class="main-button" data-test="next-tour" @click="next">
        {{ at === STEPS.length - 1 ? 'Begin' : 'Next' }}
      </button>
    </div>
  </aside>
</template>

<style>
.tour-ring {
  outline: 3px solid var(--verdigris) !important;
  outline-offset: 5px;
  border-radius: 6px;
}
</style>
<style scoped>
.tour {
  position: fixed;
  left: 50%;
  bottom: 178px;
  transform: translateX(-50%);
  z-index: 20;
  width: 360px;
  padding: 14px 18px;
  border-radius: 10px;
  background: var(--sheet);
  box-shadow: var(--lift);
  border: 1px solid var(--verdigris);
}
h2 {
  font-size: 17px;
  margin: 2px 0 4px;
}
div {
  display: flex;
  justify-content: space-between;
  align-items: center;
  margin-top: 10px;
}
</style>
