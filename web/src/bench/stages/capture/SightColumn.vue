<script setup lang="ts">
/** The column on the left in which what the head sees stands. */
defineProps<{ test: string }>()
</script>

<template>
  <section class="sight" aria-label="What the head sees" tabindex="0" :data-test="test"><slot /></section>
</template>

<style scoped>
.sight {
  flex: 1;
  min-height: 0;
  overflow: auto;
  padding: 12px 14px;
  display: flex;
  flex-direction: column;
  gap: 7px;
}
.sight > :slotted(*) {
  flex: none;
}
.sight :slotted(h2) {
  display: flex;
  justify-content: space-between;
  font-size: 13px;
  font-weight: 600;
}
.sight :slotted(h2 span) {
  font-weight: 400;
  color: var(--ink-2);
}
.sight :slotted(.grip) {
  display: flex;
  gap: 12px;
  align-items: center;
  font-size: 12.5px;
}
</style>
