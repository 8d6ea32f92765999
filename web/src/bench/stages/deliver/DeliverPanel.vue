<script setup lang="ts">
import { useBenchContext } from '@/bench/context'
import ReceiverCards from '@/bench/stages/deliver/ReceiverCards.vue'
import DeliverSheet from '@/bench/stages/deliver/DeliverSheet.vue'

const { id, bench } = useBenchContext()
const { bench: shown, catalogue } = bench
</script>

<template>
  <ReceiverCards v-if="shown?.mesh || shown?.passes.length" />
  <DeliverSheet
    :mesh="shown?.mesh ?? null"
    :points="shown?.points ?? 0"
    :passes="shown?.passes ?? []"
    :object-id="id"
    :formats="catalogue?.formats ?? []"
  />
</template>
