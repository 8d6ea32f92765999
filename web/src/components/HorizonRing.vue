<script setup lang="ts">
import { computed } from 'vue'

const props = defineProps<{ azimuth: number; elevation: number }>()
const emit = defineEmits<{ look: [number, number] }>()
const tilt = computed(() => Math.max(0.18, Math.abs(Math.sin(props.elevation))))
const mark = computed(() => ({
  x: 42 + 34 * Math.sin(props.azimuth),
  y: 46 + 34 * tilt.value * Math.cos(props.azimuth),
}))
const SIDES = ['front', 'right', 'back', 'left']
const side = computed(() => {
  if (props.elevation > 1.2) return 'above'
  if (props.elevation < -1.2) return 'below'
  return SIDES[((Math.round(props.azimuth / (Math.PI / 2)) % 4) + 4) % 4]
})
function pick(e: MouseEvent) {
  const box = (e.currentTarget as SVGElement).getBoundingClientRect()
  const x = ((e.clientX - box.left) / box.width) * 84 - 42
  const y = ((e.clientY - box.top) / box.height) * 84 - 46
  if (y < -24 && Math.abs(x) < 10) emit('look', props.azimuth, 1.5)
  else emit('look', Math.atan2(x, y / tilt.value), 0.25)
}
</script>

<template>
  <figure class="ring">
    <svg
      viewBox="0 0 84 84"
      role="img"
      aria-label="Horizon ring: click a place to look from there, the pole for above"
      @click="pick"
    >
      <ellipse cx="42" cy="46" rx="34" :ry="34 * tilt" class="line" />
      <line x1="42" y1="46" x2="42" y2="14" class="line" />
      <circle cx="42" cy="12" r="3" class="pole" />
      <circle :cx="mark.x" :cy="mark.y" r="5" class="mark" />
    </svg>
    <figcaption>{{ side }}</figcaption>
  </figure>
</template>

<style scoped>
.ring {
  margin: 0;
  width: 84px;
  text-align: center;
}
svg {
  display: block;
  cursor: pointer;
}
.line {
  fill: none;
  stroke: var(--ink-2);
  stroke-width: 1.3;
}
.pole {
  fill: var(--ink);
}
.mark {
  fill: var(--verdigris);
  stroke: var(--sheet);
  stroke-width: 1.5;
}
figcaption {
  font: 600 12px var(--cond);
  color: var(--ink-2);
  margin-top: 2px;
}
</style>
