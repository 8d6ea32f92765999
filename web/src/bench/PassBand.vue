<script setup lang="ts">
import { computed } from 'vue'
import { useBenchContext } from '@/bench/context'
import { handPart } from '@/bench/stages/capture/hand/hand'
import PassTracks from '@/components/PassTracks.vue'

const context = useBenchContext()
const { bench, view } = context
const hand = context.part('hand', handPart)
const { bench: shown, capturing } = bench
const live = computed(() => {
  if (!capturing.value) return null
  const frames = capturing.value.frames ?? 0
  const planned = Math.max(capturing.value.planned ?? 0, frames, 1)
  const title = capturing.value.title.replace(/^Capture “|”$/g, '')
  const told = hand.on.value ? hand.figures.value : undefined
  if (hand.on.value) {
    const { runs = [], out = [] } = told ?? {}
    return { title, frames: told?.frames ?? frames, planned, runs, out }
  }
  return { title, frames, planned }
})
function toggle(n: number) {
  view.hidden.value[n] = !view.hidden.value[n]
}
function look(n: number) {
  view.hidden.value[n] = false
  view.mode.value = 'passes'
}
/** Leave frames of a pass out, or take them back: a step like any other. */
function frames(operation: string, n: number, first: number, last: number) {
  void bench.operation(operation, { pass: shown.value!.passes[n].title, frames: [[first, last]] })
}
</script>

<template>
  <PassTracks
    :passes="shown?.passes ?? []"
    :live="live"
    :hidden="view.hidden.value"
    :fixed="bench.busy.value"
    @leave="(n, first, last) => frames('leave_out', n, first, last)"
    @take="(n, first, last) => frames('take_back', n, first, last)"
    @toggle="toggle"
    @frame="look"
    @back="(frame) => context.live.steer({ back_to: frame })"
    @drop="(first, last) => context.live.steer({ drop: [first, last] })"
    @bring="(first, last) => context.live.steer({ bring_back: [first, last] })"
  />
</template>
