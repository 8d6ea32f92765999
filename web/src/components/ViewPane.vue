<script setup lang="ts">
import { onBeforeUnmount, onMounted, ref, shallowRef, watch } from 'vue'
import HorizonRing from '@/components/HorizonRing.vue'
import ScaleBar from '@/components/ScaleBar.vue'
import { Viewer, type ViewMode, type ViewState } from '@/viewer/Viewer'

const props = defineProps<{
  meshUrl: string | null
  passUrls: (string | null)[]
  liveUrl: string | null
  liveIndex: number
  mode: ViewMode
  textured: boolean
  wireframe: boolean
}>()
const emit = defineEmits<{ loading: [boolean]; fault: [string] }>()

const host = ref<HTMLElement>()
const viewer = shallowRef<Viewer>()
const state = ref<ViewState>({ azimuth: 0, elevation: 0.3, mmPerPixel: 0.3 })
const shown: (string | null)[] = []
let wanted = 0
let meshWanted = 0
let framed = false
let liveDone = -1

const hue = (n: number) =>
  getComputedStyle(document.documentElement)
    .getPropertyValue(`--pass-${(n % 6) + 1}`)
    .trim()

async function fetched(url: string): Promise<ArrayBuffer> {
  const answer = await fetch(url)
  if (!answer.ok)
    throw new Error((await answer.json().catch(() => null))?.error ?? `The server answered ${answer.status}.`)
  return answer.arrayBuffer()
}

function frameOnce() {
  if (!framed) viewer.value?.frameAll()
  framed = true
}

async function guarded(work: () => Promise<void>) {
  wanted += 1
  emit('loading', true)
  try {
    await work()
  } catch (e) {
    emit('fault', e instanceof Error ? e.message : String(e))
  } finally {
    wanted -= 1
    emit('loading', wanted > 0)
  }
}

function syncPasses() {
  const urls = props.passUrls
  for (let n = 0; n < Math.max(urls.length, shown.length); n++) {
    const url = urls[n] ?? null
    if (shown[n] === url) continue
    shown[n] = url
    if (!url) viewer.value?.removePass(n)
    else
      void guarded(async () => {
        const data = await fetched(url)
        if (shown[n] !== url) return
        viewer.value?.setPass(n, data, hue(n))
        if (!props.meshUrl) frameOnce()
      })
  }
}

function syncMesh() {
  const url = props.meshUrl
  const ticket = ++meshWanted
  if (!url) return viewer.value?.clearMesh()
  void guarded(async () => {
    const data = await fetched(url)
    if (ticket !== meshWanted) return
    await viewer.value?.setMesh(data)
    if (host.value) host.value.dataset.mesh = url
    frameOnce()
  })
}

async function syncLive() {
  const base = props.liveUrl
  if (!base) {
    liveDone = -1
    return
  }
  while (props.liveUrl === base && liveDone < props.liveIndex - 1) {
    const index = ++liveDone
    try {
      viewer.value?.addLive(await fetched(`${base}/${index}/points`), hue(props.passUrls.length))
    } catch {
      return
    }
  }
}

onMounted(() => {
  viewer.value = new Viewer(host.value!, (s) => (state.value = s))
  viewer.value.setMode(props.mode)
  syncMesh()
  syncPasses()
  void syncLive()
})
onBeforeUnmount(() => viewer.value?.dispose())
watch(() => props.meshUrl, syncMesh)
watch(() => props.passUrls, syncPasses, { deep: true })
watch([() => props.liveUrl, () => props.liveIndex], syncLive)
watch(
  () => props.liveUrl,
  (url) => {
    if (url) {
      viewer.value?.clearPasses()
      shown.length = 0
      syncPasses()
    } else {
      viewer.value?.clearPasses()
      shown.length = 0
      framed = false
      syncPasses()
    }
  },
)
watch(
  () => props.mode,
  (m) => viewer.value?.setMode(m),
)
watch(
  () => props.textured,
  (on) => viewer.value?.setTextured(on),
)
watch(
  () => props.wireframe,
  (on) => viewer.value?.setWireframe(on),
)

function dragLight(e: PointerEvent) {
  const knob = e.currentTarget as HTMLElement
  knob.setPointerCapture(e.pointerId)
  knob.onpointermove = (m) => viewer.value?.moveLight(m.movementX * 0.02, -m.movementY * 0.02)
  knob.onpointerup = () => (knob.onpointermove = null)
}
defineExpose({
  frameAll: () => viewer.value?.frameAll(),
  flyTo: (place: number[]) => viewer.value?.flyTo(place),
  look: (a: number, e: number) => viewer.value?.lookFrom(a, e),
  moveLight: (a: number, e: number) => viewer.value?.moveLight(a, e),
})
</script>

<template>
  <div class="view">
    <div ref="host" class="host" data-test="view" />
    <slot />
    <div class="foot">
      <button
        class="light"
        title="Drag to move the light (or , and .)"
        aria-label="Move the light"
        @pointerdown="dragLight"
      >
        ☀
      </button>
      <ScaleBar :mm-per-pixel="state.mmPerPixel" />
      <HorizonRing
        :azimuth="state.azimuth"
        :elevation="state.elevation"
        @look="(a, e) => viewer?.lookFrom(a, e)"
      />
    </div>
  </div>
</template>

<style scoped>
.view {
  position: relative;
  overflow: hidden;
  background: radial-gradient(ellipse at 50% 42%, var(--view-1), var(--view-2));
}
.host {
  position: absolute;
  inset: 0;
}
.foot {
  position: absolute;
  right: 14px;
  bottom: 12px;
  left: 45%;
  display: flex;
  justify-content: space-between;
  align-items: flex-end;
  pointer-events: none;
}
.foot > * {
  pointer-events: auto;
}
.foot > .scale {
  margin-bottom: 22px;
}
.light {
  position: absolute;
  right: 96px;
  bottom: 6px;
  width: 28px;
  height: 28px;
  border-radius: 50%;
  border: var(--hair);
  background: var(--sheet);
  color: var(--ochre);
  cursor: grab;
  touch-action: none;
  padding: 0;
}
</style>
