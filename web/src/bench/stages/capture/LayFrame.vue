<script setup lang="ts">
import { useBenchContext } from '@/bench/context'
import InsetFrame from '@/bench/InsetFrame.vue'
import { suggestions } from '@/bench/stages/capture/sheetHandle'

/** The frame round the small picture of how the object lies on its plate for a pass to come. */
const context = useBenchContext()
const { view } = context
const { shown, lay } = suggestions(context)
</script>

<template>
  <InsetFrame v-if="view.mode.value === 'coverage' && lay" data-test="lay-inset">
    {{ shown?.name }}
  </InsetFrame>
</template>
