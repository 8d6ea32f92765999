<script setup lang="ts">
import { ref } from 'vue'
import { useBenchContext } from '@/bench/context'
import { useCursorKeys } from '@/bench/useCursorKeys'
import { useDeskView } from '@/bench/useDeskView'
import { useDragged } from '@/bench/useDragged'
import { useHandView } from '@/bench/useHandView'
import { lookPart } from '@/bench/stages/colour/look'
import { useMeasures } from '@/bench/useMeasures'
import { useThreads } from '@/bench/useThreads'
import { useViewer } from '@/bench/useViewer'
import HorizonRing from '@/components/HorizonRing.vue'
import ScaleBar from '@/components/ScaleBar.vue'

const context = useBenchContext()
const host = ref<HTMLElement>()
const { state } = useViewer(context, host)
useDeskView(context)
useHandView(context)
useCursorKeys(context)
useThreads(context, state)
useMeasures(context, state)
useDragged(context)
lookPart(context)
const { viewer } = context.view

function dragLight(e: PointerEvent) {
  const knob = e.currentTarget as HTMLElement
  knob.setPointerCapture(e.pointerId)
  knob.onpointermove = (m) => viewer.value?.moveLight(m.movementX * 0.02, -m.movementY * 0.02)
  knob.onpointerup = () => (knob.onpointermove = null)
}
</script>

<template>
  <div class="view">
    <div ref="host" class="host" data-test="view" />
    <slot />
    <div class="foot">
      <button
        class="light"
        title="Drag to move the light (or , and .)"
        aria-label="Move the light"
        @pointerdown="dragLight"
      >
        ☀
      </button>
      <ScaleBar :mm-per-pixel="state.mmPerPixel" />
      <HorizonRing
        :azimuth="state.azimuth"
        :elevation="state.elevation"
        @look="(a, e) => viewer?.lookFrom(a, e)"
      />
    </div>
  </div>
</template>

<style scoped>
.view {
  position: relative;
  overflow: hidden;
  background: radial-gradient(ellipse at 50% 42%, var(--view-1), var(--view-2));
}
.host {
  position: absolute;
  inset: 0;
  touch-action: none;
}
.host :deep(.screen-lines) {
  position: absolute;
  inset: 0;
  width: 100%;
  height: 100%;
  pointer-events: none;
}
.host :deep(.screen-lines polyline:not(.thread, .measure)) {
  fill: none;
  stroke: var(--mark);
  stroke-width: 2;
  stroke-dasharray: 7 4;
}
.host :deep(.screen-lines circle.offer) {
  fill: none;
  stroke: var(--verdigris);
  stroke-width: 2;
  stroke-dasharray: 3 4;
}
.host :deep(.screen-lines .thread) {
  fill: none;
  stroke: var(--ink);
  stroke-width: 1.5;
}
.host :deep(.screen-lines circle.thread) {
  fill: var(--sheet);
}
.host :deep(.screen-lines text.thread) {
  fill: var(--ink);
  stroke: none;
  font: 600 12px var(--cond);
  text-anchor: middle;
}
.host :deep(.screen-lines .measure) {
  fill: none;
  stroke: var(--ink);
  stroke-width: 1.2;
}
.host :deep(.screen-lines circle.measure) {
  fill: var(--ink);
}
.host :deep(.screen-lines rect.measure) {
  fill: var(--sheet);
  stroke: var(--rule);
}
.host :deep(.screen-lines text.measure) {
  fill: var(--ink);
  stroke: none;
  font: 500 12px var(--mono);
  text-anchor: middle;
}
.host :deep(.screen-lines .off) {
  stroke: var(--ochre-ink);
  stroke-dasharray: 5 3;
}
.host :deep(.screen-lines text.off) {
  fill: var(--ochre-ink);
}
.host :deep(.screen-lines circle:not(.thread, .measure, .offer)) {
  fill: none;
  stroke: var(--mark);
  stroke-width: 1.5;
}
.host :deep(.screen-lines path) {
  stroke: var(--ink);
  stroke-width: 1.5;
}
.foot {
  position: absolute;
  right: 14px;
  bottom: 12px;
  left: 45%;
  display: flex;
  justify-content: space-between;
  align-items: flex-end;
  pointer-events: none;
}
.foot > * {
  pointer-events: auto;
}
.foot > .scale {
  margin-bottom: 22px;
}
.light {
  position: absolute;
  right: 96px;
  bottom: 6px;
  width: 28px;
  height: 28px;
  border-radius: 50%;
  border: var(--hair);
  background: var(--sheet);
  color: var(--ochre-ink);
  cursor: grab;
  touch-action: none;
  padding: 0;
}
</style>
