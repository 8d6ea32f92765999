<script setup lang="ts">
import { useBenchContext } from '@/bench/context'
import DeliverSheet from '@/bench/stages/deliver/DeliverSheet.vue'

const { id, bench } = useBenchContext()
const { bench: shown, catalogue } = bench
</script>

<template>
  <DeliverSheet
    :mesh="shown?.mesh ?? null"
    :points="shown?.points ?? 0"
    :passes="shown?.passes ?? []"
    :object-id="id"
    :formats="catalogue?.formats ?? []"
  />
</template>
