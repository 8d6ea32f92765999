<script setup lang="ts">
import { useBenchContext } from '@/bench/context'

const { bench, view } = useBenchContext()
</script>

<template>
  <p
    v-if="view.tool.value"
    class="hint"
    :class="{
      'above-card': ['coverage', 'shift', 'slice'].includes(view.mode.value),
      'above-figures': bench.bench.value?.mesh,
    }"
    role="status"
    data-test="hint"
  >
    {{ view.tool.value.hint }} <span>Escape puts it away.</span>
  </p>
</template>

<style scoped>
.hint {
  position: absolute;
  left: 50%;
  bottom: 70px;
  transform: translateX(-50%);
  width: max-content;
  max-width: calc(100% - 40px);
  margin: 0;
  padding: 5px 12px;
  border-radius: 8px;
  background: var(--ink);
  color: var(--sheet);
  font: 500 13px var(--cond);
  pointer-events: none;
}
/* The card of coverage has the lower left corner: above it, and above the scale. */
.above-card {
  bottom: 88px;
}
/* So have the figures of a mesh. */
.above-figures {
  bottom: 134px;
}
</style>
