<script setup lang="ts">
import { ref } from 'vue'
import { filesOf } from '@/api/dropped'

/** Lets files be dropped on all of what it holds, and says while they hang over it what would come of them. */
const props = defineProps<{ words: string; off?: boolean }>()
const emit = defineEmits<{ files: [File[]] }>()
const over = ref(false)
let depth = 0

const carriesFiles = (e: DragEvent) => !props.off && (e.dataTransfer?.types.includes('Files') ?? false)
function enter(e: DragEvent) {
  if (!carriesFiles(e)) return
  depth += 1
  over.value = true
}
function leave(e: DragEvent) {
  if (!carriesFiles(e)) return
  depth = Math.max(depth - 1, 0)
  over.value = depth > 0
}
async function drop(e: DragEvent) {
  depth = 0
  over.value = false
  if (!carriesFiles(e)) return
  const files = await filesOf(e.dataTransfer!)
  if (files.length) emit('files', files)
}
</script>

<template>
  <div
    class="drop-area"
    data-test="drop-area"
    @dragenter.prevent="enter"
    @dragover.prevent
    @dragleave="leave"
    @drop.prevent="drop"
  >
    <slot />
    <div v-if="over" class="over" role="status">
      <p>{{ words }}</p>
      <p class="kinds">Captures, RGB-D folders, points, meshes, or a .zip of them</p>
    </div>
  </div>
</template>

<style scoped>
.drop-area {
  position: relative;
  min-height: 100%;
}
.over {
  position: absolute;
  inset: 10px;
  z-index: 30;
  display: flex;
  flex-direction: column;
  gap: 6px;
  align-items: center;
  justify-content: center;
  border: 2px dashed var(--verdigris);
  border-radius: 12px;
  background: color-mix(in srgb, var(--verdigris-wash) 80%, transparent);
  font: 500 20px var(--cond);
  pointer-events: none;
}
.kinds {
  font: 400 14px var(--sans);
  color: var(--ink-2);
}
</style>
