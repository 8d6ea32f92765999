<script setup lang="ts">
import { useBenchContext } from '@/bench/context'

const { view } = useBenchContext()
const { leftFolded, tracksFolded } = view
</script>

<template>
  <div class="bench" :class="{ 'left-folded': leftFolded, 'tracks-folded': tracksFolded }">
    <div v-if="!leftFolded" class="left"><slot name="left" /></div>
    <main class="middle"><slot name="middle" /></main>
    <div class="right"><slot name="right" /></div>
    <div v-if="!tracksFolded" class="bottom"><slot name="bottom" /></div>
  </div>
</template>

<style scoped>
.bench {
  display: grid;
  height: 100%;
  min-height: 0;
  grid-template: 'left middle right' minmax(0, 1fr) 'bottom bottom right' 158px / 256px minmax(0, 1fr) 300px;
}
.bench.left-folded {
  grid-template-columns: 0 minmax(0, 1fr) 300px;
}
.bench.tracks-folded {
  grid-template-rows: minmax(0, 1fr) 0;
}
.left {
  grid-area: left;
  display: flex;
  flex-direction: column;
  min-height: 0;
  border-right: var(--hair);
  background: var(--paper);
}
.middle {
  grid-area: middle;
  min-width: 0;
  min-height: 0;
  display: grid;
}
.right {
  grid-area: right;
  min-height: 0;
  display: grid;
}
.bottom {
  grid-area: bottom;
  min-height: 0;
  display: grid;
}
</style>
