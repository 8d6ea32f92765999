<script setup lang="ts">
import { computed, onBeforeUnmount, watch } from 'vue'
import type { CapturePlan } from '@/api/client'
import { useBenchContext } from '@/bench/context'
import CaptureSheet from '@/bench/stages/capture/CaptureSheet.vue'
import { handPart, keepLoud } from '@/bench/stages/capture/hand/hand'
import HandPass from '@/bench/stages/capture/hand/HandPass.vue'
import HeldPass from '@/bench/stages/capture/HeldPass.vue'
import RunningPass from '@/bench/stages/capture/RunningPass.vue'
import { sheetHandle } from '@/bench/stages/capture/sheetHandle'
import { chime } from '@/composables/chime'
import { useStands } from '@/stores/stands'
import { sightHandle, type SightFigures } from '@/bench/stages/capture/sight'

type Sheet = InstanceType<typeof CaptureSheet>
type HeldCard = InstanceType<typeof HeldPass>

const context = useBenchContext()
const { bench, view, live } = context
const { bench: shown, catalogue, capturing, held, busy } = bench
const handle = context.part('capture', sheetHandle)
const sight = context.part('sight', sightHandle)
const photo = computed(() => {
  const frames = capturing.value?.frames
  return view.liveUrl.value && frames ? `${view.liveUrl.value}/${frames - 1}/colour` : null
})
const figures = computed(() => (live.sight.value?.figures as unknown as SightFigures | undefined) ?? null)
const hand = context.part('hand', handPart)
watch(hand.loud, keepLoud)
const stands = useStands()
/** Who else drives an instrument, by its name. */
const drivers = computed(() =>
  Object.fromEntries(
    stands.stands
      .filter((s) => s.driver && !s.driven_by_me)
      .map((s) => [s.name, { driver: s.driver, asked: !!s.asked_by }]),
  ),
)
const last = computed(() => (shown.value?.set_up ?? {}) as Partial<CapturePlan>)

/** What was looked at, and suggested, is settled now: findings and run sheet come back. */
function start(plan: CapturePlan) {
  handle.suggested.value = null
  sight.on.value = false
  void bench.capture({ ...plan, hold: true })
}
watch(held, (now, before) => now && !before && chime(true))
onBeforeUnmount(() => (sight.on.value = false))
</script>

<template>
  <HandPass
    v-if="capturing && hand.on.value"
    :job="capturing"
    :figures="hand.figures.value ?? null"
    :loud="hand.loud.value"
    @act="bench.act"
    @next="live.steer({ next: true })"
    @cover="(covered) => live.steer({ covered })"
    @loud="(loud) => (hand.loud.value = loud)"
  />
  <RunningPass v-else-if="capturing" :job="capturing" :photo="photo" @act="bench.act" />
  <HeldPass
    v-else-if="held"
    :ref="(made) => (handle.held = made as HeldCard | null)"
    :held="held"
    :busy="busy"
    @accept="bench.accept"
    @drop="bench.throwAway"
  />
  <CaptureSheet
    v-else
    :ref="(made) => (handle.sheet = made as Sheet | null)"
    :passes="shown?.passes.length ?? 0"
    :busy="busy"
    :instruments="catalogue?.instruments ?? []"
    :last="last"
    :gate="sight.gate.value"
    :held="sight.held.value"
    :suggested="handle.suggested.value"
    :drivers="drivers"
    @ask="(name) => stands.act(name, 'ask')"
    :looking="sight.on.value"
    :figures="sight.on.value ? figures : null"
    @start="start"
    @look="sight.on.value = !sight.on.value"
    @change="(plan) => (sight.setUp.value = plan)"
  />
</template>
