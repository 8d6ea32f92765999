<script setup lang="ts">
import { computed } from 'vue'
import { useBenchContext } from '@/bench/context'
import { matchingPart } from '@/bench/stages/align/matching'
import { INSET } from '@/bench/viewer/FitInset'
import { percent } from '@/composables/format'

/** The frame round the small picture of how a pass would lie, with how much would be common. */
const match = matchingPart(useBenchContext())
const shown = computed(() => match.active.value && !!match.fit.value)
const common = computed(() => match.figures.value?.overlap)
const place = {
  right: `${INSET.right}px`,
  top: `${INSET.top}px`,
  width: `${INSET.width}px`,
  height: `${INSET.height}px`,
}
</script>

<template>
  <figure v-if="shown" :style="place" data-test="fit-inset">
    <figcaption>
      As it would lie<template v-if="common != null"
        >, common <b class="num">{{ percent(common, 0) }}</b></template
      >
    </figcaption>
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
