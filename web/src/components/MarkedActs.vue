<script setup lang="ts">
/** What can be done with the frames that are marked on a track: named, then the buttons of the track, then no mark. */
defineProps<{ words: string }>()
defineEmits<{ unmark: [] }>()
</script>

<template>
  <span class="acts">
    <b class="num">{{ words }}</b>
    <slot />
    <button class="link" @click="$emit('unmark')">Unmark</button>
  </span>
</template>

<style scoped>
.acts {
  display: flex;
  gap: 12px;
  align-items: baseline;
  white-space: nowrap;
  font-size: 12.5px;
}
</style>
