<script setup lang="ts">
import { useBenchContext } from '@/bench/context'
import { handPart } from '@/bench/stages/capture/hand/hand'
import HandSight from '@/bench/stages/capture/hand/HandSight.vue'
import SightPanel from '@/bench/stages/capture/SightPanel.vue'

/** What the head sees: of a pass by hand while it is taken, else of the set-up of the next pass. */
const { on } = useBenchContext().part('hand', handPart)
</script>

<template>
  <HandSight v-if="on" />
  <SightPanel v-else />
</template>
