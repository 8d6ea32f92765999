<script setup lang="ts">
import { computed } from 'vue'
import type { CheckView } from '@/api/client'

const props = defineProps<{ check: CheckView; title: string }>()
defineEmits<{ stop: [] }>()
const WHAT: Record<string, string> = {
  board: 'Hold the board where the dashed outline is; each place is taken by itself.',
  axis: 'Lay the board on the plate, beside its middle. The table turns it by itself.',
  sheet: 'Hold a sheet of white paper flat before the head, over the middle of the picture.',
  card: 'Lay the colour card flat in the middle, without shadow or glare.',
  piece: 'Stand the reference piece on the plate. The table turns it by itself.',
}
const picture = computed(() =>
  props.check.pictures ? `/api/checks/${props.check.id}/picture?n=${props.check.pictures}` : null,
)
const outline = computed(() => props.check.outline.map(([x, y]) => `${100 * x},${100 * y}`).join(' '))
</script>

<template>
  <section class="running" data-test="running-check">
    <div class="look">
      <img v-if="picture" :src="picture" alt="What the instrument sees" />
      <svg v-if="outline" viewBox="0 0 100 100" preserveAspectRatio="none" aria-hidden="true">
        <polygon :points="outline" class="under" />
        <polygon :points="outline" />
      </svg>
    </div>
    <div class="words">
      <h3>{{ title }}</h3>
      <p class="quiet">{{ WHAT[check.kind] }}</p>
      <p role="status" data-test="check-words">
        <b>{{ check.words }}</b>
      </p>
      <div class="bar"><i :style="{ width: `${(100 * check.done) / Math.max(check.of, 1)}%` }" /></div>
      <p class="num">{{ check.done }} of {{ check.of }}</p>
      <button class="plain-button" data-test="stop-check" @click="$emit('stop')">
        Stop the check <kbd class="key">Esc</kbd>
      </button>
    </div>
  </section>
</template>

<style scoped>
.running {
  display: grid;
  grid-template-columns: minmax(0, 420px) minmax(0, 1fr);
  gap: 18px;
  padding: 14px;
  background: var(--sheet);
  border: var(--hair);
}
.look {
  position: relative;
  background: var(--sunk);
  min-height: 220px;
}
img {
  width: 100%;
  display: block;
}
svg {
  position: absolute;
  inset: 0;
  width: 100%;
  height: 100%;
}
polygon {
  fill: none;
  stroke: var(--mark);
  stroke-width: 2.5;
  stroke-dasharray: 8 5;
  vector-effect: non-scaling-stroke;
}
polygon.under {
  stroke: #fffdf8;
  stroke-width: 5;
  stroke-dasharray: none;
}
.words {
  display: flex;
  flex-direction: column;
  gap: 8px;
  align-items: flex-start;
}
.words .bar {
  width: 100%;
}
h3 {
  font-size: 16px;
}
</style>
