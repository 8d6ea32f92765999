<script setup lang="ts">
import { computed } from 'vue'
import { count } from '@/composables/format'

interface Point {
  triangles: number
  mean_mm: number
  p95_mm: number
}
/** Deviation over the number of triangles, both as powers of ten, with a handle on it. */
const props = defineProps<{ curve: Point[] }>()
const triangles = defineModel<number>({ required: true })
const [W, H, L, B] = [300, 130, 40, 20]
const counts = computed(() => props.curve.map((p) => p.triangles))
const drawn = computed(() => props.curve.filter((p) => p.p95_mm > 0 && p.mean_mm > 0))
const ends = computed(() => {
  const x = [Math.log(Math.min(...counts.value)), Math.log(Math.max(...counts.value))]
  const all = drawn.value.flatMap((p) => [p.mean_mm, p.p95_mm])
  const y = all.length ? [Math.log(Math.min(...all)), Math.log(Math.max(...all))] : [0, 1]
  return { x, y }
})
const xOf = (n: number) =>
  L + ((Math.log(n) - ends.value.x[0]) / Math.max(ends.value.x[1] - ends.value.x[0], 1e-9)) * (W - L - 8)
const yOf = (v: number) =>
  8 + (1 - (Math.log(v) - ends.value.y[0]) / Math.max(ends.value.y[1] - ends.value.y[0], 1e-9)) * (H - B - 12)
const line = (kind: 'mean_mm' | 'p95_mm') =>
  drawn.value.map((p) => `${xOf(p.triangles).toFixed(1)},${yOf(p[kind]).toFixed(1)}`).join(' ')
/** Lines at powers of ten. */
const tens = computed(() => {
  const [low, high] = ends.value.y.map((v) => v / Math.LN10)
  const all = Array.from({ length: 8 }, (_, k) => Math.ceil(low) + k)
  return all.filter((e) => e <= high).map((e) => 10 ** e)
})
const handle = computed(() =>
  xOf(Math.min(Math.max(triangles.value, Math.min(...counts.value)), Math.max(...counts.value))),
)
function drag(e: PointerEvent) {
  const svg = e.currentTarget as SVGSVGElement
  const to = (m: PointerEvent) => {
    const box = svg.getBoundingClientRect()
    const share = (((m.clientX - box.left) / box.width) * W - L) / (W - L - 8)
    const [a, b] = ends.value.x
    triangles.value = Math.round(Math.exp(a + Math.min(Math.max(share, 0), 1) * (b - a)))
  }
  svg.setPointerCapture(e.pointerId)
  to(e)
  svg.onpointermove = to
  svg.onpointerup = () => (svg.onpointermove = null)
}
function key(e: KeyboardEvent) {
  const way = { ArrowLeft: -1, ArrowDown: -1, ArrowRight: 1, ArrowUp: 1 }[e.key]
  if (!way) return
  e.preventDefault()
  const next = triangles.value * (e.shiftKey ? 1.5 : 1.1) ** way
  triangles.value = Math.round(Math.min(Math.max(next, Math.min(...counts.value)), Math.max(...counts.value)))
}
</script>

<template>
  <svg
    :viewBox="`0 0 ${W} ${H}`"
    role="slider"
    tabindex="0"
    aria-label="Triangles to keep"
    :aria-valuemin="Math.min(...counts)"
    :aria-valuemax="Math.max(...counts)"
    :aria-valuenow="triangles"
    :aria-valuetext="`${count(triangles)} triangles`"
    data-test="curve"
    @pointerdown="drag"
    @keydown="key"
  >
    <g v-for="v in tens" :key="v">
      <line class="grid" :x1="L" :x2="W - 8" :y1="yOf(v)" :y2="yOf(v)" />
      <text :x="L - 4" :y="yOf(v) + 4" text-anchor="end">{{ v }}</text>
    </g>
    <text :x="L" :y="H - 4">{{ count(Math.min(...counts)) }}</text>
    <text :x="W - 8" :y="H - 4" text-anchor="end">{{ count(Math.max(...counts)) }} triangles</text>
    <polyline class="most" :points="line('p95_mm')" />
    <polyline class="mean" :points="line('mean_mm')" />
    <line class="handle" :x1="handle" :x2="handle" y1="4" :y2="H - B" />
    <circle class="handle" :cx="handle" :cy="H - B" r="6" />
  </svg>
  <p class="quiet legend"><b class="mean-key" /> mean, mm <b class="most-key" /> 95&#8201;% within</p>
</template>

<style scoped>
svg {
  width: 100%;
  cursor: ew-resize;
  touch-action: none;
}
text {
  font: 11px var(--cond);
  fill: var(--ink-2);
}
.grid {
  stroke: var(--rule);
}
polyline {
  fill: none;
  stroke-width: 1.8;
}
.mean {
  stroke: var(--ink);
}
.most {
  stroke: var(--ochre-ink);
  stroke-dasharray: 5 3;
}
.handle {
  stroke: var(--mark);
  fill: var(--mark);
  stroke-width: 1.5;
}
.legend {
  display: flex;
  gap: 6px;
  align-items: center;
  margin: 0;
}
.legend b {
  width: 18px;
  border-top: 2px solid var(--ink);
}
.legend .most-key {
  border-top: 2px dashed var(--ochre-ink);
  margin-left: 10px;
}
</style>
