<script setup lang="ts">
import { computed } from 'vue'
import { useBenchContext } from '@/bench/context'
import PassTracks from '@/components/PassTracks.vue'

const { bench, view } = useBenchContext()
const { bench: shown, capturing } = bench
const live = computed(() => {
  if (!capturing.value) return null
  const frames = capturing.value.frames ?? 0
  const planned = Math.max(capturing.value.planned ?? 0, frames, 1)
  return { title: capturing.value.title.replace(/^Capture “|”$/g, ''), frames, planned }
})
function toggle(n: number) {
  view.hidden.value[n] = !view.hidden.value[n]
}
function look(n: number) {
  view.hidden.value[n] = false
  view.mode.value = 'passes'
}
</script>

<template>
  <PassTracks
    :passes="shown?.passes ?? []"
    :live="live"
    :hidden="view.hidden.value"
    @toggle="toggle"
    @frame="look"
  />
</template>
