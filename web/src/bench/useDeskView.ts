import { computed, onBeforeUnmount, onMounted, ref, watch } from 'vue'
import type { PreviewLayer } from '@/api/live'
import type { BenchContext } from '@/bench/context'
import type { ShownSlip } from '@/bench/viewer/layers/Paths'
import { suggestions } from '@/bench/stages/capture/sheetHandle'
import type { Share } from '@/bench/viewer/layers/CoverageSurface'
import { hueOf, token } from '@/lib/tokens'
import { useTheme } from '@/stores/theme'

/** Shades from what was seen at one glance to what was seen enough. */
export const COVERAGE_STEPS = ['cov-0', 'cov-1', 'cov-2', 'cov-3', 'cov-4']

const shareOf = ({ arrays }: PreviewLayer, number: number): Share => ({
  shared: arrays[`shared_${number}`] as Uint8Array,
  fresh: arrays[`fresh_${number}`] as Uint8Array,
  colours: { shared: token('verdigris'), fresh: token('ochre') },
})

/** Shows in the view what the desk tells: path and preview of a pass, and how well the object was seen. */
export function useDeskView(context: BenchContext) {
  const { bench, view, live } = context
  const theme = useTheme()
  const scene = ref<PreviewLayer | null>(null)
  const slips = ref<ShownSlip[]>([])
  const looking = computed(() => !!live.sight.value && !view.liveUrl.value)
  const wanted = computed(() => view.mode.value === 'coverage')

  function showPath() {
    const viewer = view.viewer.value
    if (!viewer) return
    const { eyes, middle } = scene.value?.arrays ?? {}
    const passing = bench.capturing.value
    const shown = scene.value && (looking.value || (passing && !passing.by_hand))
    if (!shown || !eyes || !middle) viewer.paths.clear()
    else {
      const path = {
        eyes: eyes as Float32Array,
        middle: middle as Float32Array,
        taken: passing?.frames ?? 0,
        slips: looking.value ? slips.value : [],
      }
      viewer.paths.set(path, { path: token('ink-2'), slip: token('ochre') })
    }
    viewer.style({ looking: looking.value })
  }
  let framed = false
  watch(live.sight, (seen) => {
    const viewer = view.viewer.value
    if (!viewer || !seen) return void (framed = false)
    scene.value = seen.layers.find((l) => l.kind === 'scene') ?? null
    slips.value = (seen.figures.slips as ShownSlip[] | undefined) ?? []
    viewer.preview.clear()
    const points = scene.value?.arrays.points
    if (points)
      viewer.preview.addLive(points.slice().buffer as ArrayBuffer, hueOf(view.passUrls.value.length))
    showPath()
    if (!framed && points) viewer.frameAll()
    framed = !!points
  })
  const taking = () => bench.capturing.value != null
  watch([looking, () => bench.capturing.value?.frames, taking, () => theme.dark], showPath, {
    flush: 'post',
  })

  const { fresh } = view
  const wish = computed(() => {
    if (!wanted.value || bench.capturing.value?.by_hand || (fresh.value && !view.liveFrames.value))
      return null
    if (!fresh.value && !view.snapshot.value) return null
    return {
      snapshot: fresh.value ? null : view.snapshot.value,
      capture: fresh.value,
      frames: fresh.value ? view.liveFrames.value : 0,
      instrument: String(
        (bench.bench.value?.set_up as { instrument?: string } | undefined)?.instrument ?? 'desk',
      ),
    }
  })
  let asked = ''
  const settled = computed(() => !bench.job.value || !!bench.capturing.value)
  watch([wish, settled], ([now, still]) => {
    if (now && !still) return // every step of what computes would be worked out for nothing
    if (JSON.stringify(now) === asked) return
    asked = JSON.stringify(now)
    live.cover(now)
  })
  const { shown, lay } = suggestions(context)
  function showCoverage() {
    const viewer = view.viewer.value
    if (!viewer) return
    const layer = live.coverage.value?.layers[0]
    const pass = shown.value
    if (!layer) viewer.coverage.clear()
    else
      viewer.coverage.set(
        layer.arrays as never,
        COVERAGE_STEPS.map(token),
        pass ? shareOf(layer, pass.number) : undefined,
      )
    viewer.lay.show(lay.value, { plate: token('ink-3'), head: token('ink') })
    viewer.style()
  }
  watch([live.coverage, shown, () => theme.dark], showCoverage, { flush: 'post' })
  onMounted(() => {
    if (wish.value) live.cover(wish.value)
  })
  onBeforeUnmount(() => live.cover(null))
}
