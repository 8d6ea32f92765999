<script setup lang="ts">
import { computed, onBeforeUnmount, onMounted, ref } from 'vue'
import { useBenchContext } from '@/bench/context'
import CaptureSheet from '@/bench/stages/capture/CaptureSheet.vue'
import { sheetHandle } from '@/bench/stages/capture/sheetHandle'

const context = useBenchContext()
const { bench, view } = context
const { bench: shown, capturing, busy } = bench
const sheet = ref<InstanceType<typeof CaptureSheet>>()
const handle = context.part('capture', sheetHandle)
const photo = computed(() => {
  const frames = capturing.value?.frames
  return view.liveUrl.value && frames ? `${view.liveUrl.value}/${frames - 1}/colour` : null
})
onMounted(() => (handle.sheet = sheet.value ?? null))
onBeforeUnmount(() => (handle.sheet = null))
</script>

<template>
  <CaptureSheet
    ref="sheet"
    :passes="shown?.passes.length ?? 0"
    :job="capturing"
    :photo="photo"
    :busy="busy"
    @start="bench.capture"
    @finish="bench.act('finish')"
    @stop="bench.act('cancel')"
  />
</template>
