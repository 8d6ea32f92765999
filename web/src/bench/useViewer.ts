import { onBeforeUnmount, onMounted, ref, watch, type Ref } from 'vue'
import { fetchGeometry, LatestOnly } from '@/api/geometry'
import type { BenchContext } from '@/bench/context'
import { markCloud } from '@/bench/marks/cloud'
import { markingPart } from '@/bench/marks/marking'
import { useShownSurface } from '@/bench/useShownSurface'
import { TreeBuilder } from '@/bench/viewer/buildTree'
import type { ViewState } from '@/bench/viewer/camera'
import { Viewer } from '@/bench/viewer/Viewer'
import { hueOf } from '@/lib/tokens'

/** Keeps a viewer true to what its bench shows; late answers never replace newer ones. */
export function useViewer(context: BenchContext, host: Ref<HTMLElement | undefined>) {
  const { bench, view, live } = context
  const marks = markingPart(context)
  const state = ref<ViewState>({ azimuth: 0, elevation: 0.3, mmPerPixel: 0.3 })
  const passes = new Map<number, { url: string; latest: LatestOnly }>()
  const trees = new TreeBuilder()
  let underWay = 0
  let framed = false
  let liveDone = -1
  let taken = 0

  async function guarded(work: () => Promise<unknown>) {
    underWay += 1
    view.loading.value = true
    try {
      await work()
    } catch (e) {
      view.fault.value = e instanceof Error ? e.message : String(e)
    } finally {
      underWay -= 1
      view.loading.value = underWay > 0
      if (!underWay) frameOnce()
    }
  }
  function changed() {
    view.viewer.value?.style()
    if (!framed) view.viewer.value?.frameAll()
  }
  /** What comes is put in view until all of it came for the first time; later the view never jumps. */
  function frameOnce() {
    if (framed) return
    view.viewer.value?.frameAll()
    framed = true
  }
  const surface = useShownSurface(context, host, guarded, changed)
  function syncPasses() {
    const { points } = view.viewer.value!
    const urls = view.passUrls.value
    for (let n = 0; n < Math.max(urls.length, ...[...passes.keys()].map((k) => k + 1), 0); n++) {
      const url = urls[n] ?? null
      if ((passes.get(n)?.url ?? null) === url) continue
      passes.get(n)?.latest.stop()
      passes.delete(n)
      if (!url) {
        points.remove(n)
        marks.points(n, null)
        changed()
        continue
      }
      const latest = new LatestOnly()
      passes.set(n, { url, latest })
      void guarded(() =>
        latest.run(
          (signal) => fetchGeometry(url, signal),
          (data) => {
            points.set(n, data, hueOf(n))
            marks.points(n, markCloud(points.data(n)))
            if (host.value) host.value.dataset.points = url
            changed()
          },
        ),
      )
    }
  }
  /** Frames of a pass that is captured come one after the other; each is asked for once, and anew after a step back. */
  async function syncLive() {
    const base = view.liveUrl.value
    if (!base) return void (liveDone = -1)
    if (liveDone >= view.liveFrames.value) {
      taken += 1
      startOver()
    }
    while (view.liveUrl.value === base && liveDone < view.liveFrames.value - 1) {
      const index = ++liveDone
      if (index % view.liveStep.value) continue
      const url = `${base}/${index}/points${taken ? `?take=${taken}` : ''}`
      const data = await fetchGeometry(url, new AbortController().signal).catch(() => null)
      const { points } = view.viewer.value ?? {}
      if (!data || !points || view.liveUrl.value !== base) return
      points.addLive(data, hueOf(view.passUrls.value.length))
      // How many frames are in the view, for whoever watches over it.
      if (host.value) host.value.dataset.live = String(index + 1)
      changed()
      if (points.count === 1) view.viewer.value?.frameAll()
    }
  }
  function startOver() {
    passes.forEach((p) => p.latest.stop())
    passes.clear()
    view.viewer.value?.points.clear()
    liveDone = -1
    framed = !!view.liveUrl.value
    syncPasses()
    changed()
  }
  function showPreview() {
    const { points, planes, ask } = view.viewer.value!
    const layers = live.preview.value?.layers ?? []
    const titles = (bench.bench.value?.passes ?? []).map((p) => p.title)
    // Marks that are being drawn are shown from here already; an answer to older ones would take them off again.
    if (marks.active.value && (live.preview.value?.behind || marks.ahead())) return
    const marked = layers.filter((l) => l.kind === 'marked')
    const changed = points.markOnly(
      marked.map(({ pass, digest, arrays }) => ({
        pass: titles.indexOf(pass!),
        digest: digest as string,
        flags: arrays.flags as Uint8Array,
      })),
    )
    if (!layers.some((l) => l.kind === 'plane')) planes.clear()
    // Marks that were shown already need no other drawing.
    if (changed || !marked.length || marked.length < layers.length) ask()
  }

  onMounted(() => {
    const viewer = new Viewer(
      host.value!,
      (s) => {
        state.value = s
        // What is held on the graphics card, for whoever watches over it.
        const { geometries, textures } = viewer.memory
        host.value!.dataset.held = `${geometries} ${textures}`
      },
      trees.build,
    )
    view.viewer.value = viewer
    const style = () =>
      viewer.style({
        mode: view.mode.value,
        textured: view.textured.value,
        wireframe: view.wireframe.value,
        over: view.over.value,
      })
    watch([view.mode, view.textured, view.wireframe, view.over], style, { immediate: true })
    watch([view.meshUrl, view.glanceUrl], surface.sync, { immediate: true })
    watch(view.passUrls, syncPasses, { immediate: true, deep: true })
    watch(view.liveUrl, startOver)
    watch([view.liveUrl, view.liveFrames], syncLive, { immediate: true })
    watch(live.preview, showPreview)
    watch(view.tool, (tool) => viewer.use(tool ? tool.make(context) : null), { immediate: true })
  })
  onBeforeUnmount(() => {
    passes.forEach((p) => p.latest.stop())
    trees.dispose()
    marks.dispose()
    view.viewer.value?.dispose()
    view.viewer.value = undefined
  })
  return { state }
}
