<script setup lang="ts">
/** A bar across the view that parts what is shown on its left from what is on its right, drawn or moved by keys. */
defineProps<{ label: string; left: string; right: string }>()
const at = defineModel<number>({ required: true })
const within = (value: number) => Math.min(Math.max(value, 0), 1)
function hang(e: PointerEvent) {
  const bar = e.currentTarget as HTMLElement
  const box = bar.parentElement!.getBoundingClientRect()
  bar.setPointerCapture(e.pointerId)
  bar.onpointermove = (m) => (at.value = within((m.clientX - box.left) / box.width))
  bar.onpointerup = () => (bar.onpointermove = null)
}
function nudge(e: KeyboardEvent) {
  const way = { ArrowLeft: -1, ArrowRight: 1 }[e.key]
  if (!way) return
  e.preventDefault()
  e.stopPropagation()
  at.value = within(at.value + way * (e.shiftKey ? 0.1 : 0.02))
}
</script>

<template>
  <div
    class="curtain"
    role="slider"
    tabindex="0"
    :aria-label="label"
    :aria-valuenow="Math.round(at * 100)"
    aria-valuemin="0"
    aria-valuemax="100"
    data-test="curtain"
    :style="{ left: `${at * 100}%` }"
    @pointerdown="hang"
    @keydown="nudge"
  />
  <b class="name" :style="{ right: `${101 - at * 100}%` }">{{ left }}</b>
  <b class="name" :style="{ left: `${at * 100 + 1}%` }">{{ right }}</b>
</template>

<style scoped>
.curtain {
  position: absolute;
  top: 44px;
  bottom: 0;
  width: 24px;
  margin-left: -12px;
  cursor: ew-resize;
  touch-action: none;
  background: linear-gradient(90deg, transparent 11px, var(--ink) 11px, var(--ink) 13px, transparent 13px);
}
.name {
  position: absolute;
  bottom: 64px;
  padding: 1px 6px;
  background: var(--sheet);
  border-radius: var(--radius);
  font-size: 13px;
  pointer-events: none;
}
</style>
