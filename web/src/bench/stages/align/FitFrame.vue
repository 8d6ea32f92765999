<script setup lang="ts">
import { computed } from 'vue'
import { useBenchContext } from '@/bench/context'
import InsetFrame from '@/bench/InsetFrame.vue'
import { matchingPart } from '@/bench/stages/align/matching'
import { percent } from '@/composables/format'

/** The frame round the small picture of how a pass would lie, with how much would be common. */
const match = matchingPart(useBenchContext())
const shown = computed(() => match.active.value && !!match.fit.value)
const common = computed(() => match.figures.value?.overlap)
</script>

<template>
  <InsetFrame v-if="shown" data-test="fit-inset">
    As it would lie<template v-if="common != null"
      >, common <b class="num">{{ percent(common, 0) }}</b></template
    >
  </InsetFrame>
</template>
