<script setup lang="ts">
import { computed } from 'vue'
import type { Measured } from '@/components/instruments/figures'

const props = defineProps<{ values: Measured[]; title: string; unit: string }>()
const WIDTH = 430
const HEIGHT = 112
const LEFT = 46
const BOTTOM = 18

const range = computed(() => {
  const low = Math.min(0, ...props.values.map((v) => v.value - v.plus))
  const high = Math.max(0, ...props.values.map((v) => v.value + v.plus))
  const room = (high - low || 1) * 0.12
  return { low: low < 0 ? low - room : 0, high: high + room }
})
const y = (value: number) => {
  const { low, high } = range.value
  return 6 + ((high - value) / (high - low)) * (HEIGHT - BOTTOM - 6)
}
const step = computed(() => (WIDTH - LEFT - 16) / Math.max(props.values.length - 1, 1))
const x = (n: number) => LEFT + 8 + (props.values.length === 1 ? (WIDTH - LEFT) / 2 : n * step.value)
const line = computed(() => props.values.map((v, n) => `${x(n)},${y(v.value)}`).join(' '))
const day = (at: number) => new Date(at).toLocaleDateString('en-GB', { day: 'numeric', month: 'short' })
const words = computed(() => {
  const last = props.values[props.values.length - 1]
  return `${props.title} of ${props.values.length} checks; the last ${last?.value.toPrecision(3)} ${props.unit}`
})
</script>

<template>
  <svg :viewBox="`0 0 ${WIDTH} ${HEIGHT}`" role="img" :aria-label="words">
    <line :x1="LEFT" :x2="WIDTH" :y1="y(0)" :y2="y(0)" class="zero" />
    <text x="0" :y="y(range.high) + 10">{{ range.high.toPrecision(2) }}</text>
    <text x="0" :y="y(0) + 4">0 {{ unit }}</text>
    <g v-for="(v, n) in values" :key="v.at">
      <line
        v-if="v.plus"
        :x1="x(n)"
        :x2="x(n)"
        :y1="y(v.value - v.plus)"
        :y2="y(v.value + v.plus)"
        class="sure"
      />
      <circle :cx="x(n)" :cy="y(v.value)" r="3.5" :class="{ bad: !v.ok }" />
    </g>
    <polyline v-if="values.length > 1" :points="line" />
    <template v-if="values.length">
      <text :x="x(0)" :y="HEIGHT - 3" text-anchor="middle">{{ day(values[0].at) }}</text>
      <text v-if="values.length > 1" :x="x(values.length - 1)" :y="HEIGHT - 3" text-anchor="end">
        {{ day(values[values.length - 1].at) }}
      </text>
    </template>
  </svg>
</template>

<style scoped>
svg {
  width: 100%;
  display: block;
}
text {
  font: 11px var(--cond);
  fill: var(--ink-2);
}
.zero {
  stroke: var(--rule);
}
.sure {
  stroke: var(--ink-3);
  stroke-width: 2;
}
circle {
  fill: var(--ink);
}
circle.bad {
  fill: var(--ochre);
}
polyline {
  fill: none;
  stroke: var(--ink-2);
}
</style>
