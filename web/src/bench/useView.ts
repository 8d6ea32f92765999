import { computed, ref, shallowRef, watch } from 'vue'
import type { useBench } from '@/bench/useBench'
import type { Place, ViewMode } from '@/bench/viewer/layers/Layer'
import type { Viewer } from '@/bench/viewer/Viewer'
import type { ToolDefinition } from '@/bench/stages/definition'

export const MODES: { name: ViewMode; label: string; key: string }[] = [
  { name: 'colour', label: 'Colour', key: '1' },
  { name: 'shape', label: 'Shape', key: '2' },
  { name: 'passes', label: 'Passes', key: '3' },
  { name: 'made-up', label: 'Made-up', key: '4' },
]

/** What the view shows and how: switches, the tool that is on, and what geometry is wanted. */
export function useView({ bench, capturing }: ReturnType<typeof useBench>) {
  const mode = ref<ViewMode>('colour')
  const textured = ref(true)
  const wireframe = ref(false)
  const hidden = ref<boolean[]>([])
  const leftFolded = ref(false)
  const tracksFolded = ref(false)
  const tool = shallowRef<ToolDefinition | null>(null)
  const viewer = shallowRef<Viewer>()
  const loading = ref(false)
  const fault = ref('')
  const place = shallowRef<Place | null>(null)

  const snapshot = computed(() => bench.value?.snapshot ?? null)
  const meshUrl = computed(() =>
    bench.value?.mesh && !capturing.value && snapshot.value ? `/api/snapshots/${snapshot.value}/mesh` : null,
  )
  const wantPoints = computed(() => !bench.value?.mesh || mode.value === 'passes')
  const passUrls = computed(() =>
    (bench.value?.passes ?? []).map((_, n) =>
      wantPoints.value && !hidden.value[n] ? `/api/snapshots/${snapshot.value}/passes/${n}` : null,
    ),
  )
  const liveUrl = computed(() =>
    capturing.value?.capture ? `/api/captures/${capturing.value.capture}/frames` : null,
  )
  // A pass that is being captured stands alone in the view, until one of the others is asked for by its swatch.
  let hiddenBefore: boolean[] = []
  watch(
    () => capturing.value != null,
    (on) => {
      if (on) hiddenBefore = hidden.value
      hidden.value = on ? (bench.value?.passes ?? []).map(() => true) : hiddenBefore
    },
  )
  watch(snapshot, () => (place.value = null))

  function use(next: ToolDefinition | null) {
    tool.value = tool.value?.name === next?.name ? null : next
    place.value = null
  }
  return {
    mode,
    textured,
    wireframe,
    hidden,
    leftFolded,
    tracksFolded,
    tool,
    viewer,
    loading,
    fault,
    place,
    snapshot,
    meshUrl,
    passUrls,
    liveUrl,
    use,
  }
}
