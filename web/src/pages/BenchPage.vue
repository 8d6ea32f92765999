<script setup lang="ts">
import { computed, onBeforeUnmount, onMounted, ref, watch } from 'vue'
import type { StageName } from '@/api/client'
import { benchActions } from '@/bench/actions'
import BenchShell from '@/bench/BenchShell.vue'
import CoverageCard from '@/bench/CoverageCard.vue'
import ColourCurtain from '@/bench/stages/colour/ColourCurtain.vue'
import CompareCard from '@/bench/stages/fuse/CompareCard.vue'
import ShiftCard from '@/bench/ShiftCard.vue'
import SliceCard from '@/bench/SliceCard.vue'
import { provideBench } from '@/bench/context'
import HintLine from '@/bench/HintLine.vue'
import FitFrame from '@/bench/stages/align/FitFrame.vue'
import LayFrame from '@/bench/stages/capture/LayFrame.vue'
import LookBackBand from '@/bench/sheet/LookBackBand.vue'
import SaveRecipe from '@/bench/sheet/SaveRecipe.vue'
import JobBanner from '@/bench/JobBanner.vue'
import MeshFigures from '@/bench/MeshFigures.vue'
import ModeBar from '@/bench/ModeBar.vue'
import Overview from '@/bench/Overview.vue'
import PassBand from '@/bench/PassBand.vue'
import PlaceCallout from '@/bench/PlaceCallout.vue'
import ToolStrip from '@/bench/ToolStrip.vue'
import { useBench } from '@/bench/useBench'
import { useLive } from '@/bench/useLive'
import { useView } from '@/bench/useView'
import ViewPane from '@/bench/ViewPane.vue'
import Worksheet from '@/bench/Worksheet.vue'
import SpokenLine from '@/bench/stages/capture/hand/SpokenLine.vue'
import { useSteering } from '@/bench/stages/capture/hand/useSteering'
import { sheetHandle } from '@/bench/stages/capture/sheetHandle'
import DropArea from '@/components/DropArea.vue'
import SharingDialog from '@/components/SharingDialog.vue'
import StageThread from '@/components/StageThread.vue'
import { STAGES, stageOf } from '@/bench/stages'
import { useActions, type Action } from '@/stores/actions'

const props = defineProps<{ id: string }>()
const bench = useBench(props.id)
const view = useView(bench)
const live = useLive(props.id, view.snapshot)
const stage = ref<StageName>('capture')
/** Whether somebody has gone to a stage: who is quicker than what is still loading is not brought back. */
let gone = false
function goTo(name: StageName) {
  gone = true
  stage.value = name
}
const context = provideBench({ id: props.id, bench, view, live, stage, goTo })
useSteering(context)
const worksheet = ref<InstanceType<typeof Worksheet>>()
const { bench: shown } = bench
const sharing = ref(false)
const left = computed(() => {
  const own = stageOf(stage.value).left
  return own?.wanted(context) ? own.panel : Overview
})
/** Whether there is nothing to show in the view, not even what a head sees just now. */
const blank = computed(
  () =>
    !!shown.value &&
    !shown.value.passes.length &&
    !shown.value.mesh &&
    !bench.job.value &&
    !bench.held.value &&
    !live.sight.value,
)

watch(stage, () => view.use(null))
watch(bench.notice, (now) => now && (view.fault.value = ''))
const actions = useActions()
const share = (): Action => ({
  id: 'share',
  title: 'Share this object',
  group: 'Bench',
  key: 'Alt+S',
  enabled: () => shown.value?.role === 'owner',
  run: () => (sharing.value = true),
})
watch(
  () => [...benchActions(context, () => worksheet.value?.runRecipe()), share()],
  (list, _, onCleanup) => onCleanup(actions.offer(list)),
  { immediate: true },
)
onMounted(async () => {
  await bench.start()
  if (!gone) stage.value = shown.value?.stages.find((s) => s.state === 'current')?.name ?? 'capture'
})
/** Dropped files go by the unit and camera that the sheet says, when it is open. */
function bring(files: File[]) {
  const sheet = context.part('capture', sheetHandle).arrivals
  if (sheet) sheet.take(files)
  else void bench.bringIn(files)
}
onBeforeUnmount(() => view.use(null))
</script>

<template>
  <DropArea class="fill" words="Drop to add these scans, a pass each" :off="bench.busy.value" @files="bring">
    <BenchShell>
      <template #left><component :is="left" /></template>
      <template #middle>
        <ViewPane>
          <div class="above"><ModeBar /><ToolStrip /><JobBanner /></div>
          <PlaceCallout />
          <div v-if="blank" class="empty">
            <h2>Nothing captured yet</h2>
            <p>
              Start a pass on the turntable (<kbd class="key">N</kbd>), or bring in scans from any device
              (<kbd class="key">I</kbd>, or drop them here).
            </p>
          </div>
          <MeshFigures />
          <SpokenLine />
          <CoverageCard />
          <ShiftCard />
          <SliceCard />
          <CompareCard />
          <ColourCurtain />
          <HintLine />
          <LookBackBand />
          <FitFrame />
          <LayFrame />
        </ViewPane>
      </template>
      <template #right><Worksheet ref="worksheet" /></template>
      <template #bottom><PassBand /></template>
    </BenchShell>
  </DropArea>
  <SaveRecipe />
  <SharingDialog :object="sharing ? shown : null" @close="sharing = false" />
  <Teleport defer to="#head-place">
    <span class="crumb"
      ><RouterLink to="/">Shelf</RouterLink> /
      <h1>{{ shown?.title ?? '…' }}</h1></span
    >
  </Teleport>
  <Teleport defer to="#head-middle">
    <StageThread v-if="shown" :stages="shown.stages" :titles="STAGES" :current="stage" @pick="context.goTo" />
  </Teleport>
</template>

<style scoped>
.fill {
  height: 100%;
}
.crumb {
  color: var(--ink-2);
  white-space: nowrap;
  overflow: hidden;
  text-overflow: ellipsis;
  max-width: 230px;
  font-family: var(--cond);
  font-size: 14px;
}
.crumb a {
  color: inherit;
  padding: 4px 0;
}
h1 {
  display: inline;
  color: var(--ink);
  font: 600 14px var(--cond);
}
.above {
  position: absolute;
  left: 12px;
  top: 12px;
  max-width: calc(100% - 24px);
  pointer-events: none;
}
.above > :deep(*) {
  pointer-events: auto;
}
.above :deep(.modes) {
  display: flex;
  width: max-content;
  padding: 3px;
  border-radius: 8px;
  background: var(--sheet);
  box-shadow: var(--lift);
}
.above :deep(.modes button) {
  border: 0;
  background: none;
  padding: 5px 11px;
  border-radius: 5px;
  font: 500 13.5px var(--cond);
  cursor: pointer;
}
.above :deep(.modes button[aria-pressed='true']) {
  background: var(--ink);
  color: var(--sheet);
}
.empty {
  position: absolute;
  inset: 0;
  display: flex;
  flex-direction: column;
  align-items: center;
  justify-content: center;
  gap: 6px;
  pointer-events: none;
}
.empty h2 {
  font-size: 22px;
}
</style>
