<script setup lang="ts">
import { computed } from 'vue'

/** Six spokes: how firmly the shape holds three slides (full) and three turns (double line) along its own axes. */
const props = defineProps<{ slide: number[]; turn: number[]; weak?: number }>()
const REACH = 34
const spokes = computed(() =>
  [...props.slide, ...props.turn].map((held, n) => {
    const angle = ((n % 3) * 60 - 90 + (n < 3 ? 0 : 30)) * (Math.PI / 180)
    const [x, y] = [Math.cos(angle), Math.sin(angle)]
    const length = Math.max(held, 0.06) * REACH
    return { x, y, length, weak: held < (props.weak ?? 0.2), turn: n >= 3 }
  }),
)
</script>

<template>
  <svg viewBox="-42 -42 84 84" role="img" aria-label="Grip of three slides and three turns">
    <g v-for="(s, n) in spokes" :key="n" :class="{ weak: s.weak, turn: s.turn }">
      <line class="rail" :x1="-s.x * REACH" :y1="-s.y * REACH" :x2="s.x * REACH" :y2="s.y * REACH" />
      <line
        class="held"
        :x1="-s.x * s.length"
        :y1="-s.y * s.length"
        :x2="s.x * s.length"
        :y2="s.y * s.length"
      />
    </g>
  </svg>
</template>

<style scoped>
svg {
  width: 84px;
  height: 84px;
  flex: none;
}
line {
  stroke-width: 5;
  stroke-linecap: round;
}
.rail {
  stroke: var(--rule);
}
.held {
  stroke: var(--ink);
}
.turn line {
  stroke-width: 2.5;
}
.weak .held {
  stroke: var(--ochre);
}
</style>
