<script setup lang="ts">
import { computed, ref } from 'vue'

/** The hill of measured distances over the slot that it should stay in. */
const props = defineProps<{
  hill: number[]
  span: [number, number]
  band: [number, number]
  /** The range gate, when its two sides can be moved here. */
  gate?: [number, number] | null
}>()
const emit = defineEmits<{ gate: [[number, number]] }>()
const LEAST_MM = 5 // between the sides
const STEP_MM = 5
const SIDES = ['Nearest that is kept', 'Farthest that is kept']
const host = ref<HTMLElement>()
/** Move one side of the gate; it never passes the other. */
function move(side: number, mm: number) {
  const [near, far] = props.gate!
  const to = Math.round(Math.min(Math.max(mm, props.span[0]), props.span[1]))
  emit('gate', side === 0 ? [Math.min(to, far - LEAST_MM), far] : [near, Math.max(to, near + LEAST_MM)])
}
function drag(side: number, e: PointerEvent) {
  const handle = e.currentTarget as HTMLElement
  const { left, width } = host.value!.getBoundingClientRect()
  handle.setPointerCapture(e.pointerId)
  handle.onpointermove = (m) =>
    move(side, props.span[0] + ((m.clientX - left) / width) * (props.span[1] - props.span[0]))
  handle.onpointerup = () => (handle.onpointermove = null)
}
function press(side: number, e: KeyboardEvent) {
  const by = { ArrowLeft: -STEP_MM, ArrowRight: STEP_MM }[e.key]
  if (!by) return
  e.preventDefault()
  move(side, props.gate![side] + by)
}
const HEIGHT = 34
const at = (mm: number) => ((mm - props.span[0]) / (props.span[1] - props.span[0])) * 100
const outline = computed(() => {
  const steps = props.hill.map(
    (h, n) => `${((n + 0.5) / props.hill.length) * 100},${HEIGHT - h * (HEIGHT - 4)}`,
  )
  return `0,${HEIGHT} ${steps.join(' ')} 100,${HEIGHT}`
})
</script>

<template>
  <figure ref="host">
    <template v-if="gate">
      <span
        v-for="(mm, side) in gate"
        :key="side"
        class="handle"
        role="slider"
        tabindex="0"
        :aria-label="SIDES[side]"
        :aria-valuenow="mm"
        :aria-valuemin="span[0]"
        :aria-valuemax="span[1]"
        :style="{ left: `${Math.min(Math.max(at(mm), 0), 100)}%` }"
        :data-test="`gate-${side}`"
        @pointerdown="drag(side, $event)"
        @keydown="press(side, $event)"
      />
    </template>
    <svg :viewBox="`0 0 100 ${HEIGHT}`" preserveAspectRatio="none" aria-hidden="true">
      <rect class="slot" :x="at(band[0])" y="0" :width="at(band[1]) - at(band[0])" :height="HEIGHT" />
      <polygon class="hill" :points="outline" />
      <line v-for="s in band" :key="s" class="edge" :x1="at(s)" :x2="at(s)" y1="0" :y2="HEIGHT" />
    </svg>
    <figcaption class="num">
      <span v-for="mm in [span[0], ...band, span[1]]" :key="mm" :style="{ left: `${at(mm)}%` }">{{
        Math.round(mm)
      }}</span>
    </figcaption>
  </figure>
</template>

<style scoped>
figure {
  margin: 0;
  position: relative;
}
.handle {
  position: absolute;
  top: -2px;
  width: 24px;
  height: 38px;
  transform: translateX(-50%);
  cursor: ew-resize;
  touch-action: none;
}
.handle::after {
  content: '';
  position: absolute;
  left: 8px;
  top: 8px;
  width: 8px;
  height: 20px;
  border-radius: 4px;
  background: var(--verdigris);
}
svg {
  display: block;
  width: 100%;
  height: 34px;
  border-bottom: var(--hair);
}
.slot {
  fill: var(--verdigris-wash);
}
.hill {
  fill: var(--ink-2);
}
.edge {
  stroke: var(--verdigris);
  stroke-width: 2;
  vector-effect: non-scaling-stroke;
}
figcaption {
  position: relative;
  height: 16px;
  font-size: 11.5px;
  color: var(--ink-2);
}
figcaption span {
  position: absolute;
  transform: translateX(-50%);
}
figcaption span:first-child {
  transform: none;
}
figcaption span:last-child {
  transform: translateX(-100%);
}
</style>
