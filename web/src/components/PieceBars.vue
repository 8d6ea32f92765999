<script setup lang="ts">
import { computed } from 'vue'
import type { PieceFigures } from '@/components/pieces'
import { count, THIN } from '@/composables/format'

/** Pieces by size, largest first; a click keeps one that would go, or lets it go again. */
const props = defineProps<{ pieces: PieceFigures[]; total: number }>()
defineEmits<{ keep: [PieceFigures] }>()
const MOST = 8
const told = computed(() => props.pieces.slice(0, MOST))
const largest = computed(() => Math.max(...props.pieces.map((p) => p.area_cm2), 1e-9))
/** Sizes run over many powers of ten, so bars show their root. */
const share = (p: PieceFigures) => `${Math.max(Math.sqrt(p.area_cm2 / largest.value) * 100, 1.5)}%`
const words = (p: PieceFigures) => `${p.area_cm2.toFixed(2)}${THIN}cm², ${count(p.points)} points`
</script>

<template>
  <div role="group" aria-label="Pieces by size" class="pieces" data-test="pieces">
    <button
      v-for="(p, n) in told"
      :key="p.at.join()"
      type="button"
      :aria-pressed="p.stays"
      :title="`${words(p)}. ${p.stays ? 'Stays.' : 'Goes; click to keep it.'}`"
      :disabled="n === 0"
      @click="$emit('keep', p)"
    >
      <i :class="{ goes: !p.stays }" :style="{ width: share(p) }" />
      <span class="num">{{ p.area_cm2.toFixed(2) }}&#8201;cm²</span>
    </button>
    <p v-if="total > told.length" class="quiet">and {{ count(total - told.length) }} smaller ones</p>
  </div>
</template>

<style scoped>
.pieces {
  display: flex;
  flex-direction: column;
  gap: 2px;
}
button {
  display: grid;
  grid-template-columns: 1fr 76px;
  gap: 8px;
  align-items: center;
  padding: 2px 0;
  border: 0;
  background: none;
  cursor: pointer;
}
button:disabled {
  cursor: default;
}
i {
  display: block;
  height: 10px;
  border-radius: 2px;
  background: var(--ink);
}
i.goes {
  background: repeating-linear-gradient(-45deg, var(--mark) 0 4px, transparent 4px 7px);
  outline: 1px solid var(--mark);
}
.num {
  text-align: right;
  font-size: 12px;
}
p {
  margin: 0;
  font-size: 12px;
}
</style>
