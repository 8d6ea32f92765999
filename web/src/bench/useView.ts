import { computed, ref, shallowRef, watch } from 'vue'
import type { useBench } from '@/bench/useBench'
import { showsPoints, type Place, type ViewMode } from '@/bench/viewer/layers/Layer'
import type { Viewer } from '@/bench/viewer/Viewer'
import type { ToolDefinition } from '@/bench/stages/definition'

export const MODES: { name: ViewMode; label: string; key: string }[] = [
  { name: 'colour', label: 'Colour', key: '1' },
  { name: 'shape', label: 'Shape', key: '2' },
  { name: 'passes', label: 'Passes', key: '3' },
  { name: 'made-up', label: 'Made-up', key: '4' },
  { name: 'coverage', label: 'Coverage', key: '5' },
  { name: 'shift', label: 'Shift', key: ';' },
  { name: 'slice', label: 'Slice', key: "'" },
]

/** Of a pass that waits to be accepted, shown at once. */
const MOST_FRAMES = 60

/** Titles of the passes that are shown and not switched off, or null when those are all that are on. */
export function shownTitles(passes: { title: string; off?: boolean }[], hidden: boolean[]): string[] | null {
  const titles = passes.filter((p, n) => !p.off && !hidden[n]).map((p) => p.title)
  return titles.length === passes.filter((p) => !p.off).length ? null : titles
}

/** What the view shows and how: switches, the tool that is on, and what geometry is wanted. */
export function useView({ bench, capturing, held, changed }: ReturnType<typeof useBench>) {
  const mode = ref<ViewMode>('colour')
  const textured = ref(true)
  const wireframe = ref(false)
  /** Raw points over the surface, in the hues of their passes: what fusion swallowed sticks out. */
  const over = ref(false)
  const hidden = ref<boolean[]>([])
  const leftFolded = ref(false)
  const tracksFolded = ref(false)
  const tool = shallowRef<ToolDefinition | null>(null)
  /** The operation whose card is to be opened. */
  const card = ref('')
  const viewer = shallowRef<Viewer>()
  const loading = ref(false)
  const fault = ref('')
  const place = shallowRef<Place | null>(null)

  const snapshot = computed(() => bench.value?.snapshot ?? null)
  // Of a pass that is being taken, or waits to be accepted.
  const fresh = computed(() => capturing.value?.capture ?? held.value?.id ?? null)
  const meshUrl = computed(() =>
    bench.value?.mesh && !fresh.value && snapshot.value ? `/api/snapshots/${snapshot.value}/mesh` : null,
  )
  /** In place of a large surface, when one looks back, until the whole is wanted: it is there within a second. */
  const glanceUrl = computed(() =>
    meshUrl.value && bench.value?.glance && !changed.value && !whole.value
      ? `/api/snapshots/${snapshot.value}/glance`
      : null,
  )
  const whole = ref(false)
  const glancing = ref(false)
  const wantPoints = computed(() => !bench.value?.mesh || showsPoints(mode.value) || over.value)
  const passUrls = computed(() =>
    (bench.value?.passes ?? []).map(({ off }, n) =>
      wantPoints.value && !off && !hidden.value[n] ? `/api/snapshots/${snapshot.value}/passes/${n}` : null,
    ),
  )
  // A pass by hand grows as a model in the view; its single frames would be too many.
  const liveUrl = computed(() =>
    fresh.value && !capturing.value?.by_hand ? `/api/captures/${fresh.value}/frames` : null,
  )
  const liveFrames = computed(() =>
    capturing.value ? (capturing.value.frames ?? 0) : (held.value?.frames ?? 0),
  )
  /** Of many frames that wait to be accepted only every so many are shown. */
  const liveStep = computed(() => (capturing.value ? 1 : Math.ceil(liveFrames.value / MOST_FRAMES)))
  // A pass that is being captured stands alone in the view, until one of the others is asked for by its swatch.
  let hiddenBefore: boolean[] = []
  watch(
    () => fresh.value != null,
    (on) => {
      if (on) hiddenBefore = hidden.value
      hidden.value = on ? (bench.value?.passes ?? []).map(() => true) : hiddenBefore
    },
  )
  watch(
    snapshot,
    () => {
      place.value = null
      whole.value = false
    },
    { flush: 'sync' },
  )

  function use(next: ToolDefinition | null) {
    tool.value = tool.value?.name === next?.name ? null : next
    place.value = null
  }
  return {
    mode,
    textured,
    wireframe,
    over,
    hidden,
    leftFolded,
    tracksFolded,
    tool,
    card,
    viewer,
    loading,
    fault,
    place,
    snapshot,
    meshUrl,
    glanceUrl,
    whole,
    glancing,
    passUrls,
    fresh,
    liveUrl,
    liveFrames,
    liveStep,
    use,
  }
}
