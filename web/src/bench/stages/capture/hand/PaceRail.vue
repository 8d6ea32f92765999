<script setup lang="ts">
import { computed } from 'vue'

/** A bead on a rail: how fast the surface moves in the picture; beyond the mark frames may be lost. */
const props = defineProps<{ pace: number }>()
const at = computed(() => `${Math.min(props.pace, 1) * 100}%`)
</script>

<template>
  <div class="rail" :class="{ hurried: pace > 0.6 }" aria-hidden="true">
    <i class="bead" :style="{ left: at }" />
  </div>
</template>

<style scoped>
.rail {
  position: relative;
  height: 8px;
  margin: 4px 7px;
  border-radius: 2px;
  background: linear-gradient(90deg, var(--verdigris-wash) 60%, var(--rule) 60%);
}
.bead {
  position: absolute;
  top: -3px;
  width: 14px;
  height: 14px;
  margin-left: -7px;
  border-radius: 50%;
  background: var(--ink);
}
.hurried .bead {
  background: var(--ochre);
}
</style>
