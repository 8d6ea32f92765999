<script setup lang="ts">
import { computed, onBeforeUnmount, onMounted, ref, watch } from 'vue'
import type { StageName, StepView } from '@/api/client'
import FindingsPanel from '@/components/FindingsPanel.vue'
import PassTracks from '@/components/PassTracks.vue'
import RunSheet from '@/components/RunSheet.vue'
import StageThread from '@/components/StageThread.vue'
import ViewPane from '@/components/ViewPane.vue'
import { clock, count, mm, percent } from '@/composables/format'
import { useBench } from '@/composables/useBench'
import { benchActions, MODES } from '@/features/bench/actions'
import CaptureSheet from '@/features/capture/CaptureSheet.vue'
import DeliverSheet from '@/features/worksheet/DeliverSheet.vue'
import OperationCard from '@/features/worksheet/OperationCard.vue'
import RecipeBar from '@/features/worksheet/RecipeBar.vue'
import { OPERATION_KEYS, QUESTIONS, STAGES } from '@/features/worksheet/stages'
import { useActions } from '@/stores/actions'
import type { ViewMode } from '@/viewer/Viewer'

const props = defineProps<{ id: string }>()
const {
  bench,
  catalogue,
  job,
  busy,
  told,
  upload,
  start,
  recipe,
  operation,
  capture,
  importFile,
  move,
  act,
  dismiss,
} = useBench(props.id)
const actions = useActions()
const stage = ref<StageName>('capture')
const openOperation = ref('')
const mode = ref<ViewMode>('colour')
const textured = ref(true)
const wireframe = ref(false)
const loading = ref(false)
const viewFault = ref('')
const hidden = ref<boolean[]>([])
const leftFolded = ref(false)
const tracksFolded = ref(false)
const view = ref<InstanceType<typeof ViewPane>>()
const captureSheet = ref<InstanceType<typeof CaptureSheet>>()
const recipeBar = ref<InstanceType<typeof RecipeBar>>()

const operations = computed(() => catalogue.value?.operations ?? [])
const titles = computed(() => Object.fromEntries(operations.value.map((o) => [o.name, o.title])))
const here = computed(() => operations.value.filter((o) => o.stage === stage.value))
const mesh = computed(() => bench.value?.mesh ?? null)
const live = computed(() =>
  job.value?.kind === 'capture' && job.value.state === 'running' ? job.value : null,
)
const livePass = computed(() => {
  if (!live.value) return null
  const frames = live.value.frames ?? 0
  const planned = Math.max(live.value.planned ?? 0, frames, 1)
  return { title: live.value.title.replace(/^Capture “|”$/g, ''), frames, planned }
})
const liveUrl = computed(() => (live.value?.capture ? `/api/captures/${live.value.capture}/frames` : null))
const photo = computed(() =>
  liveUrl.value && live.value?.frames ? `${liveUrl.value}/${live.value.frames - 1}/colour` : null,
)
const meshUrl = computed(() =>
  mesh.value && !live.value && bench.value?.snapshot ? `/api/snapshots/${bench.value.snapshot}/mesh` : null,
)
const wantPoints = computed(() => !mesh.value || mode.value === 'passes')
const passUrls = computed(() =>
  (bench.value?.passes ?? []).map((_, n) =>
    wantPoints.value && !hidden.value[n] ? `/api/snapshots/${bench.value?.snapshot}/passes/${n}` : null,
  ),
)
// A pass that is being captured stands alone in the view, until one of the others is asked for by its swatch.
let hiddenBefore: boolean[] = []
watch(
  () => live.value != null,
  (on) => {
    if (on) hiddenBefore = hidden.value
    hidden.value = on ? (bench.value?.passes ?? []).map(() => true) : hiddenBefore
  },
)
const doneBy = computed(() => {
  const out: Record<string, StepView> = {}
  for (const s of bench.value?.steps ?? []) if (!s.undone) out[s.operation] = s
  return out
})
const next = computed(() => STAGES[STAGES.indexOf(stage.value) + 1])
const firstOpen = computed(
  () => here.value.find((o) => !doneBy.value[o.name])?.name ?? here.value[0]?.name ?? '',
)
watch([stage, firstOpen], () => (openOperation.value = firstOpen.value))
watch(
  () => told.value,
  (t) => t && (viewFault.value = ''),
)

function flyTo(place: number[]) {
  view.value?.flyTo(place)
}
function goTo(name: StageName) {
  stage.value = name
}

const flags = { wires: wireframe, photos: textured, left: leftFolded, tracks: tracksFolded }
/** Go to the capture sheet and, once it is there, do something with it. */
function atCaptureSheet(act: (sheet: InstanceType<typeof CaptureSheet>) => void) {
  stage.value = 'capture'
  requestAnimationFrame(() => captureSheet.value && act(captureSheet.value))
}
const possible = computed(() =>
  benchActions({
    operations: operations.value,
    formats: catalogue.value?.formats ?? [],
    idle: () => !busy.value,
    computing: () => !!job.value,
    hasMesh: () => !!mesh.value,
    move: (which) => void move(which),
    recipe: () => recipeBar.value?.run(),
    startPass: () => atCaptureSheet((sheet) => sheet.start()),
    browse: () => atCaptureSheet((sheet) => sheet.browse()),
    stop: () => void act('cancel'),
    nextStage: () => next.value && goTo(next.value),
    goTo,
    show: (name) => (mode.value = name),
    flip: (what) => (flags[what].value = !flags[what].value),
    frameAll: () => view.value?.frameAll(),
    look: (azimuth, elevation) => view.value?.look(azimuth, elevation),
    light: (aside) => view.value?.moveLight(aside, 0),
    operation: (name) => void operation(name),
    download: (format) => window.location.assign(`/api/objects/${props.id}/download/${format}`),
  }),
)
let withdraw = () => {}
watch(
  possible,
  (list) => {
    withdraw()
    withdraw = actions.offer(list)
  },
  { immediate: true },
)
onBeforeUnmount(() => withdraw())
onMounted(async () => {
  await start()
  stage.value = bench.value?.stages.find((s) => s.state === 'current')?.name ?? 'capture'
})
</script>

<template>
  <div class="bench" :class="{ 'left-folded': leftFolded, 'tracks-folded': tracksFolded }">
    <Teleport defer to="#head-place">
      <span class="crumb"
        ><RouterLink to="/">Shelf</RouterLink> / <b>{{ bench?.title ?? '…' }}</b></span
      >
    </Teleport>
    <Teleport defer to="#head-middle">
      <StageThread v-if="bench" :stages="bench.stages" :current="stage" @pick="goTo" />
    </Teleport>

    <aside v-if="!leftFolded" class="left">
      <FindingsPanel
        :findings="bench?.findings ?? []"
        :stage="stage"
        :titles="titles"
        :busy="busy"
        :empty="!bench?.passes.length"
        @show="flyTo"
        @mend="(o) => operation(o)"
        @go="goTo"
      />
      <RunSheet :steps="bench?.steps ?? []" :busy="busy" @undo="move('undo')" @redo="move('redo')" />
    </aside>

    <main class="middle">
      <ViewPane
        ref="view"
        :mesh-url="meshUrl"
        :pass-urls="passUrls"
        :live-url="liveUrl"
        :live-index="live?.frames ?? 0"
        :mode="mode"
        :textured="textured"
        :wireframe="wireframe"
        @loading="(on) => (loading = on)"
        @fault="(f) => (viewFault = f)"
      >
        <div class="modes" role="group" aria-label="What the view shows">
          <button
            v-for="m in MODES"
            :key="m.name"
            :aria-pressed="mode === m.name"
            :title="`${m.label} (${m.key})`"
            :data-test="`mode-${m.name}`"
            @click="mode = m.name"
          >
            {{ m.label }}
          </button>
          <span class="gap" />
          <button
            :aria-pressed="textured"
            title="Colour on or off (X)"
            data-test="toggle-texture"
            @click="textured = !textured"
          >
            Photos
          </button>
          <button
            :aria-pressed="wireframe"
            title="Wireframe (W)"
            data-test="toggle-wire"
            @click="wireframe = !wireframe"
          >
            Wires
          </button>
        </div>
        <div v-if="job" class="spoken" data-test="progress">
          <div>
            <b>{{ job.title }}</b> <span>{{ job.message }}</span>
          </div>
          <div class="bar"><i :style="{ width: `${job.fraction * 100}%` }" /></div>
          <div class="row">
            <span class="num">{{ percent(job.fraction, 0) }} · {{ clock(job.seconds_left) }} left</span
            ><button class="link" :disabled="job.stopping" data-test="cancel" @click="act('cancel')">
              {{ job.stopping ? 'Stopping…' : 'Stop' }} <kbd class="key">Esc</kbd>
            </button>
          </div>
        </div>
        <div v-else-if="told || viewFault" class="fault" role="alert" data-test="fault">
          <b>That did not work.</b> {{ told || viewFault }}
          <span class="quiet">What was there before is safe.</span>
          <button class="link" @click="(dismiss(), (viewFault = ''))">Close</button>
        </div>
        <div v-else-if="loading" class="spoken small">Fetching the geometry…</div>
        <div v-if="bench && !bench.passes.length && !job" class="empty">
          <h2>Nothing captured yet</h2>
          <p>
            Start a pass on the turntable (<kbd class="key">N</kbd>) or import a capture folder (<kbd
              class="key"
              >I</kbd
            >).
          </p>
        </div>
        <dl v-if="mesh" class="figures" data-test="figures">
          <dt>Size</dt>
          <dd class="num">{{ mesh.size_mm.map((v) => v.toFixed(1)).join(' × ') }}&thinsp;mm</dd>
          <dt>Triangles</dt>
          <dd class="num">{{ count(mesh.triangles) }}</dd>
          <dt>Watertight</dt>
          <dd class="num">{{ mesh.watertight ? 'yes' : `no, ${mesh.holes.count} holes` }}</dd>
          <dt v-if="mesh.volume_mm3">Volume</dt>
          <dd v-if="mesh.volume_mm3" class="num">{{ (mesh.volume_mm3 / 1000).toFixed(2) }}&thinsp;cm³</dd>
          <dt>Made up</dt>
          <dd class="num">{{ percent(mesh.made_up_area_fraction) }}</dd>
          <template v-if="mode === 'made-up'"
            ><dt class="legend"><i class="measured" />measured</dt>
            <dd class="legend"><i class="made" />made up</dd></template
          >
        </dl>
      </ViewPane>
    </main>

    <aside class="right">
      <header>
        <h2>{{ QUESTIONS[stage] }}</h2>
        <p class="quiet">
          {{ bench?.passes.length ?? 0 }} {{ bench?.passes.length === 1 ? 'pass' : 'passes'
          }}<template v-if="mesh">
            · {{ count(mesh.triangles) }} triangles · {{ mm(Math.max(...mesh.size_mm)) }}</template
          >
        </p>
      </header>
      <div class="cards">
        <CaptureSheet
          v-if="stage === 'capture'"
          ref="captureSheet"
          :passes="bench?.passes.length ?? 0"
          :job="live"
          :photo="photo"
          :upload="upload"
          :busy="busy"
          @start="capture"
          @finish="act('finish')"
          @stop="act('cancel')"
          @pick="importFile"
        />
        <OperationCard
          v-for="o in here"
          :key="o.name"
          :operation="o"
          :key-name="OPERATION_KEYS[o.name] ?? ''"
          :open="openOperation === o.name"
          :done="doneBy[o.name] ?? null"
          :busy="busy || !bench?.passes.length"
          :main="stage !== 'capture' && o.name === firstOpen"
          @open="openOperation = openOperation === o.name ? '' : o.name"
          @run="(v) => operation(o.name, v)"
        />
        <DeliverSheet
          v-if="stage === 'deliver'"
          :mesh="mesh"
          :points="bench?.points ?? 0"
          :object-id="id"
          :formats="catalogue?.formats ?? []"
        />
      </div>
      <RecipeBar
        v-if="catalogue"
        ref="recipeBar"
        :recipes="catalogue.recipes"
        :busy="busy"
        :ready="!!bench?.passes.length"
        :main="false"
        @run="recipe"
      />
      <footer>
        <span class="quiet">{{
          next ? `Then: ${next[0].toUpperCase()}${next.slice(1)}` : 'The last stage'
        }}</span><button class="plain-button" :disabled="!next" @click="next && goTo(next)">
          Next stage
        </button>
      </footer>
    </aside>

    <PassTracks
      v-if="!tracksFolded"
      class="bottom"
      :passes="bench?.passes ?? []"
      :live="livePass"
      :hidden="hidden"
      @toggle="(n) => (hidden[n] = !hidden[n])"
      @frame="(n) => ((hidden[n] = false), (mode = 'passes'))"
    />
  </div>
</template>

<style scoped>
.bench {
  display: grid;
  height: 100%;
  min-height: 0;
  grid-template: 'left middle right' minmax(0, 1fr) 'bottom bottom right' 158px / 256px minmax(0, 1fr) 300px;
}
.bench.left-folded {
  grid-template-columns: 0 minmax(0, 1fr) 300px;
}
.bench.tracks-folded {
  grid-template-rows: minmax(0, 1fr) 0;
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
}
.crumb b {
  color: var(--ink);
  font-weight: 600;
}
.left {
  grid-area: left;
  display: flex;
  flex-direction: column;
  min-height: 0;
  border-right: var(--hair);
  background: var(--paper);
}
.middle {
  grid-area: middle;
  min-width: 0;
  min-height: 0;
  display: grid;
}
.right {
  grid-area: right;
  display: flex;
  flex-direction: column;
  min-height: 0;
  border-left: var(--hair);
  background: var(--sheet);
}
.right header {
  padding: 14px 16px 10px;
  border-bottom: var(--hair);
}
.right h2 {
  font-size: 20px;
  line-height: 1.15;
}
.cards {
  flex: 1;
  min-height: 0;
  overflow: auto;
}
footer {
  display: flex;
  justify-content: space-between;
  align-items: center;
  padding: 10px 16px;
  border-top: var(--hair);
}
.bottom {
  grid-area: bottom;
}
.modes {
  position: absolute;
  left: 12px;
  top: 12px;
  display: flex;
  padding: 3px;
  border-radius: 8px;
  background: var(--sheet);
  box-shadow: var(--lift);
}
.modes button {
  border: 0;
  background: none;
  padding: 5px 11px;
  border-radius: 5px;
  font: 500 13.5px var(--cond);
  cursor: pointer;
}
.modes button[aria-pressed='true'] {
  background: var(--ink);
  color: var(--sheet);
}
.modes .gap {
  width: 1px;
  background: var(--rule);
  margin: 3px 5px;
}
.modes .gap ~ button[aria-pressed='true'] {
  background: var(--sunk);
  color: var(--ink);
}
.spoken,
.fault {
  position: absolute;
  left: 12px;
  top: 58px;
  width: 330px;
  max-width: 92%;
  padding: 9px 14px;
  border-radius: 8px;
  background: var(--sheet);
  box-shadow: var(--lift);
  display: flex;
  flex-direction: column;
  gap: 5px;
}
.spoken.small {
  width: auto;
  color: var(--ink-2);
}
.spoken .row {
  display: flex;
  justify-content: space-between;
  align-items: center;
}
.fault {
  border-left: 3px solid var(--oxblood);
  display: block;
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
.figures {
  position: absolute;
  left: 12px;
  bottom: 12px;
  margin: 0;
  padding: 8px 12px;
  background: var(--sheet);
  border-radius: 8px;
  box-shadow: var(--lift);
  display: grid;
  grid-template-columns: auto auto;
  gap: 2px 14px;
}
.figures dt {
  color: var(--ink-2);
}
.figures dd {
  margin: 0;
}
.legend {
  font-size: 12px;
  color: var(--ink-2);
  text-align: left;
}
.legend i {
  display: inline-block;
  width: 10px;
  height: 10px;
  border-radius: 2px;
  margin-right: 5px;
}
.measured {
  background: #4d6f93;
}
.made {
  background: #c98a24;
}
</style>
