<script setup lang="ts">
import type { JobView } from '@/api/client'
import { clock } from '@/composables/format'

defineProps<{ running: JobView[]; connected: boolean }>()
</script>

<template>
  <RouterLink
    to="/queue"
    class="pill"
    :title="connected ? 'Queue' : 'Not connected; trying again'"
    data-test="queue-pill"
  >
    <template v-if="running.length">
      <span class="name">{{ running[0].object_title }}: {{ running[0].title }}</span>
      <span class="bar"><i :style="{ width: `${running[0].fraction * 100}%` }" /></span>
      <span class="num">{{ clock(running[0].seconds_left) }}</span>
      <span v-if="running.length > 1" class="quiet">+{{ running.length - 1 }}</span>
    </template>
    <template v-else
      ><span class="dot" :class="{ off: !connected }" />
      {{ connected ? 'Nothing computing' : 'Not connected' }}</template
    >
  </RouterLink>
</template>

<style scoped>
.pill {
  display: flex;
  align-items: center;
  gap: 8px;
  padding: 4px 11px;
  border: var(--hair);
  border-radius: 14px;
  background: var(--paper);
  color: var(--ink-2);
  font: 500 13px var(--cond);
  max-width: 320px;
}
.name {
  overflow: hidden;
  text-overflow: ellipsis;
  white-space: nowrap;
}
.bar {
  width: 54px;
  flex: none;
}
.dot {
  width: 7px;
  height: 7px;
  border-radius: 50%;
  background: var(--verdigris);
}
.dot.off {
  background: var(--ochre);
}
</style>
