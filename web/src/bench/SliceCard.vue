<script setup lang="ts">
import Slider from 'primevue/slider'
import { onBeforeUnmount, onMounted } from 'vue'
import { useBenchContext } from '@/bench/context'
import { AXES, slicePart } from '@/bench/useSlice'

/** Where the plane lies that slices all passes; the wheel moves it. */
const context = useBenchContext()
const { view } = context
const { axis, at, reach, step, across, move } = context.part('slice', slicePart)
const NAMES = { x: 'Side', y: 'Front', z: 'Above' }

/** The wheel moves the plane; with Ctrl it comes nearer, as everywhere else. */
function wheel(e: Event) {
  const { deltaY, ctrlKey, shiftKey, target } = e as WheelEvent
  if (view.mode.value !== 'slice' || ctrlKey || !(target instanceof HTMLCanvasElement)) return
  e.preventDefault()
  e.stopPropagation()
  move(-Math.sign(deltaY) * (shiftKey ? 5 : 1))
}
onMounted(() => window.addEventListener('wheel', wheel, { capture: true, passive: false }))
onBeforeUnmount(() => window.removeEventListener('wheel', wheel, { capture: true }))
</script>

<template>
  <section v-if="view.mode.value === 'slice'" class="afloat-card" data-test="slice" aria-label="Slice">
    <header>
      <b>Slice</b
      ><span class="num" data-test="slice-at"
        >{{ (Math.round(at * 100) / 100 || 0).toFixed(2) }}&#8201;mm</span
      >
    </header>
    <div class="axes" role="group" aria-label="The slice is seen from">
      <button
        v-for="name in AXES"
        :key="name"
        type="button"
        class="plain-button"
        :aria-pressed="axis === name"
        @click="across(name)"
      >
        {{ NAMES[name] }}
      </button>
    </div>
    <Slider v-model="at" :min="reach.from" :max="reach.to" :step="step" aria-label="Slice in millimetres" />
    <p class="quiet">
      The wheel moves it, with Shift by five steps; with Ctrl it comes nearer. Two lines side by side are a
      double skin.
    </p>
  </section>
</template>

<style scoped>
.axes {
  display: flex;
  gap: 4px;
}
.axes button {
  flex: 1;
  padding: 3px 4px;
  font-size: 12px;
}
.axes button[aria-pressed='true'] {
  background: var(--ink);
  color: var(--sheet);
}
p {
  margin: 4px 0 0;
}
</style>
