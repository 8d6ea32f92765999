<script setup lang="ts">
import type { SightFigures } from '@/bench/stages/capture/sight'
import { clock, count } from '@/composables/format'

/** What a pass costs: frames, time, points, memory; a pass by hand ends when somebody ends it. */
defineProps<{ figures: SightFigures; byHand: boolean }>()
</script>

<template>
  <dl class="figures" data-test="cost">
    <template v-if="!byHand && figures.minutes != null">
      <dt>Frames, time</dt>
      <dd class="num">{{ figures.frames }} · {{ clock(figures.minutes * 60) }}</dd>
    </template>
    <dt>Points at {{ figures.spacing_mm?.toFixed(2) }} mm</dt>
    <dd class="num">{{ count(figures.points ?? 0) }}</dd>
    <dt>Memory to work with</dt>
    <dd class="num">{{ figures.memory_mb }} MB</dd>
  </dl>
</template>
