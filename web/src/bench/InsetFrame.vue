<script setup lang="ts">
import { INSET } from '@/bench/viewer/inset'

/** The frame round a small picture in the view, with what it says below. */
const place = {
  right: `${INSET.right}px`,
  top: `${INSET.top}px`,
  width: `${INSET.width}px`,
  height: `${INSET.height}px`,
}
</script>

<template>
  <figure :style="place">
    <figcaption><slot /></figcaption>
  </figure>
</template>

<style scoped>
figure {
  position: absolute;
  margin: 0;
  border: 1px solid var(--ink-3);
  border-radius: 8px;
  pointer-events: none;
}
figcaption {
  position: absolute;
  left: 0;
  right: 0;
  top: 100%;
  margin-top: 3px;
  text-align: center;
  font-size: 12.5px;
  color: var(--ink);
}
</style>
