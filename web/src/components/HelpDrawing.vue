<script setup lang="ts">
import { computed } from 'vue'

/** A small drawing of what an operation does, where one says more than words: before on the left, after on the right. */
const props = defineProps<{ name: string }>()
/** Paths in a field of 128 by 40; “m” is drawn as marked, “q” quiet. */
const DRAWINGS: Record<string, { d: string; of?: 'm' | 'q' }[]> = {
  stand_cut: [
    { d: 'M18 6a10 10 0 0 1 12 8v8H6v-8A10 10 0 0 1 18 6Z' },
    { d: 'M2 26H44M2 26l4 6H40l4-6', of: 'm' },
    { d: 'M100 8a10 10 0 0 1 12 8v8H88v-8a10 10 0 0 1 12-8Z' },
    { d: 'M82 28H120', of: 'q' },
  ],
  loose_pieces: [
    { d: 'M10 30V14a10 10 0 0 1 20 0v16Z' },
    { d: 'M40 12h4v4h-4ZM46 24h3v3h-3Z', of: 'm' },
    { d: 'M92 30V14a10 10 0 0 1 20 0v16Z' },
  ],
  find_fit: [
    { d: 'M4 28C12 8 26 8 34 22' },
    { d: 'M18 34C26 16 38 12 48 26', of: 'q' },
    { d: 'M82 28C90 8 104 8 112 22' },
    { d: 'M92 14C100 9 108 15 124 30', of: 'q' },
  ],
  fuse: [
    { d: 'M4 26l4-8 5 3 5-9 5 5 6-8 5 7 6 2', of: 'q' },
    { d: 'M5 30l5-9 5 2 5-8 5 4 5-7 6 6 6 3', of: 'q' },
    { d: 'M82 29C92 14 104 10 122 20' },
  ],
  close: [
    { d: 'M4 30C10 12 18 10 22 12M34 12c6 2 10 8 14 18' },
    { d: 'M22 12q6-3 12 0', of: 'm' },
    { d: 'M82 30c6-18 14-20 20-20s16 4 24 20' },
  ],
  simplify: [
    { d: 'M6 30L12 12 18 30 24 12 30 30 36 12 42 30ZM12 12H36M6 30H42' },
    { d: 'M86 30L104 10 122 30Z' },
  ],
  smooth: [{ d: 'M4 24l4-4 4 5 4-8 4 7 4-6 4 5 4-6 4 5 4-3' }, { d: 'M82 24c10-8 20-6 42-4' }],
  lay_colour: [
    { d: 'M10 32V14a10 10 0 0 1 20 0v18Z' },
    { d: 'M42 8l-10 6 10 6ZM42 24l-10 2 8 6Z', of: 'q' },
    { d: 'M92 32V14a10 10 0 0 1 20 0v18Z' },
    { d: 'M94 16l16 12M92 22l12 9M98 10l14 10', of: 'm' },
  ],
  stand_up: [{ d: 'M8 22l14-14 12 12-14 14Z' }, { d: 'M88 8h18v20H88Z' }, { d: 'M80 28H120', of: 'q' }],
  set_scale: [
    { d: 'M14 12h14v16H14Z' },
    { d: 'M8 34H34M8 31v6M34 31v6', of: 'q' },
    { d: 'M90 6h20v22H90Z' },
    { d: 'M82 34H120M82 31v6M120 31v6', of: 'q' },
  ],
}
const parts = computed(() => DRAWINGS[props.name] ?? [])
</script>

<template>
  <svg v-if="parts.length" viewBox="0 0 128 40" width="128" height="40" aria-hidden="true">
    <path v-for="(p, n) in parts" :key="n" :d="p.d" :class="p.of" />
    <path d="M56 20H72M68 16l5 4-5 4" class="arrow" />
  </svg>
</template>

<style scoped>
svg {
  display: block;
  margin: 0 16px 8px;
}
path {
  fill: none;
  stroke: var(--ink);
  stroke-width: 1.5;
  stroke-linejoin: round;
  stroke-linecap: round;
}
.m {
  stroke: var(--mark);
  stroke-dasharray: 3 2;
}
.q {
  stroke: var(--ink-3);
}
.arrow {
  stroke: var(--verdigris);
}
</style>
