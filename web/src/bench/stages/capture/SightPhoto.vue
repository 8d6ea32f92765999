<script setup lang="ts">
import { ref, watchPostEffect } from 'vue'
import { inkOf, paintSight } from '@/bench/stages/capture/sight'

/** A photograph (RGB) as it came, with the marks of its pixels hatched, and what is said of them. */
const props = defineProps<{
  photograph: Uint8Array
  marks: Uint8Array
  width: number
  says: string
  label: string
}>()
const canvas = ref<HTMLCanvasElement>()
watchPostEffect(() => {
  const { photograph, marks, width } = props
  const target = canvas.value?.getContext('2d')
  if (!target || !width) return
  const height = marks.length / width
  target.canvas.width = width
  target.canvas.height = height
  const inks: [number[], number[]] = [inkOf('--mark'), inkOf('--ochre')]
  target.putImageData(new ImageData(paintSight(photograph, marks, width, inks), width, height), 0, 0)
})
</script>

<template>
  <div class="photo">
    <canvas ref="canvas" role="img" :aria-label="label" />
    <span>{{ says }}</span>
  </div>
</template>

<style scoped>
.photo {
  position: relative;
}
canvas {
  display: block;
  width: 100%;
  min-height: 120px;
  border-radius: var(--radius);
  background: var(--sunk);
}
span {
  position: absolute;
  left: 6px;
  bottom: 6px;
  padding: 1px 6px;
  border-radius: 4px;
  background: rgb(29 43 58 / 92%);
  color: #fffdf8;
  font-size: 12px;
}
</style>
