<script setup lang="ts">
import { computed } from 'vue'

const props = defineProps<{ mmPerPixel: number }>()
const length = computed(() => {
  const wanted = props.mmPerPixel * 110
  const power = 10 ** Math.floor(Math.log10(Math.max(wanted, 1e-6)))
  return [5, 2, 1].map((k) => k * power).find((v) => v <= wanted) ?? power
})
</script>

<template>
  <div
    class="scale"
    :style="{ width: `${length / Math.max(mmPerPixel, 1e-9)}px` }"
    title="True at the object's middle"
  >
    <span>{{ length }}&thinsp;mm</span>
  </div>
</template>

<style scoped>
.scale {
  height: 7px;
  border: 1px solid var(--ink-2);
  border-top: 0;
  text-align: center;
  /* A pale rim, so that the bar can be read over a dark plate too. */
  filter: drop-shadow(0 0 1.5px var(--sheet)) drop-shadow(0 0 1.5px var(--sheet));
}
span {
  position: relative;
  top: 8px;
  font: 12px var(--mono);
  color: var(--ink);
}
</style>
