<script setup lang="ts">
import { computed, onBeforeUnmount, ref, watch } from 'vue'
import { useBenchContext } from '@/bench/context'
import { handPart } from '@/bench/stages/capture/hand/hand'
import { sound, tick, urgency } from '@/bench/stages/capture/hand/sounds'

/** The next move, or what is wrong just now, in one sentence over the view; heard too, unless somebody wants quiet. */
const CALM_MS = 700
const context = useBenchContext()
const { on, figures, loud } = context.part('hand', handPart)
const lost = computed(() => figures.value?.state === 'lost')
/** For screen readers: what changes with every frame would never end being read. */
const spoken = ref('')
let waiting = 0
let sounding: AudioContext | null = null
let ticked = 0

watch(
  () => figures.value?.line ?? '',
  (line) => {
    window.clearTimeout(waiting)
    waiting = window.setTimeout(() => (spoken.value = line), lost.value ? 0 : CALM_MS)
  },
)
watch(figures, (now, before) => {
  if (!now || !loud.value || !('AudioContext' in window)) return
  sound(now, before)
  const urgent = now.state === 'lost' ? 0 : urgency(now)
  const due = 600 - 400 * urgent
  if (!urgent || performance.now() - ticked < due) return
  ticked = performance.now()
  sounding ??= new AudioContext()
  tick(sounding, urgent)
})
onBeforeUnmount(() => {
  window.clearTimeout(waiting)
  void sounding?.close()
})
</script>

<template>
  <template v-if="on && figures">
    <p class="line" :class="{ lost }" aria-hidden="true" data-test="spoken-line">{{ figures.line }}</p>
    <p class="unseen" role="status">{{ spoken }}</p>
  </template>
</template>

<style scoped>
.line {
  position: absolute;
  left: 50%;
  top: 58px;
  transform: translateX(-50%);
  width: max-content;
  max-width: calc(100% - 40px);
  margin: 0;
  padding: 6px 16px;
  border-radius: 15px;
  background: var(--ink);
  color: var(--sheet);
  font: 600 15px var(--cond);
  pointer-events: none;
}
.lost {
  background: var(--ochre-ink);
  color: var(--sheet);
}
.unseen {
  position: absolute;
  width: 1px;
  height: 1px;
  overflow: hidden;
  clip-path: inset(50%);
}
</style>
