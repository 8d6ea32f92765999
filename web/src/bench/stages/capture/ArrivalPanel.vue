<script setup lang="ts">
import { computed, onBeforeUnmount, onMounted, ref } from 'vue'
import { useBenchContext } from '@/bench/context'
import ArrivalSheet from '@/bench/stages/capture/ArrivalSheet.vue'
import BringOver from '@/bench/stages/capture/BringOver.vue'
import { sheetHandle } from '@/bench/stages/capture/sheetHandle'
import { useArrivals } from '@/stores/arrivals'

const context = useBenchContext()
const { bench } = context
const arrivals = useArrivals()
const sheet = ref<InstanceType<typeof ArrivalSheet>>()
const handle = context.part('capture', sheetHandle)
const sending = computed(() => (arrivals.sending?.objectId === context.id ? arrivals.sending : null))
onMounted(() => (handle.arrivals = sheet.value ?? null))
onBeforeUnmount(() => (handle.arrivals = null))
</script>

<template>
  <ArrivalSheet
    v-if="!bench.capturing.value"
    ref="sheet"
    :sending="sending"
    :readable="bench.catalogue.value?.readable ?? []"
    :busy="bench.busy.value"
    @pick="bench.bringIn"
    @stop="arrivals.stop"
  >
    <BringOver :object-id="context.id" :busy="bench.busy.value" @bring="bench.bringOver" />
  </ArrivalSheet>
</template>
