<script setup lang="ts">
import { useBenchContext } from '@/bench/context'
import { lookPart } from '@/bench/stages/colour/look'
import CurtainBar from '@/components/CurtainBar.vue'

/** The curtain before which the colour is shown as laid. */
const { trying, curtain } = lookPart(useBenchContext())
</script>

<template>
  <CurtainBar
    v-if="trying && curtain !== null"
    v-model="curtain"
    label="Curtain between the colour as laid and adjusted"
    left="as laid"
    right="adjusted"
  />
</template>
