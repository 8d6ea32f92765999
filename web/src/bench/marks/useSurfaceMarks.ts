import { computed, onBeforeUnmount, onMounted, ref, watch } from 'vue'
import type { BenchContext } from '@/bench/context'
import { markingPart } from '@/bench/marks/marking'
import type { ToolDefinition } from '@/bench/stages/definition'
import { count, percent, THIN } from '@/composables/format'

const marksSurface = (tool: ToolDefinition | null) => !!tool && /^(fuse|mend|colour|set)-/.test(tool.name)
const ON_SURFACE = ['colour', 'shape', 'made-up']

/** The surface is marked for as long as a card stands open and wants it; Enter does what is given. */
export function useSurfaceMarks(context: BenchContext, run: () => unknown) {
  const { view } = context
  const part = markingPart(context)
  const on = ref(true)
  const said = computed(() => {
    const { marked, points, area_cm2 } = part.figures.value
    return `${count(marked)} · ${area_cm2.toFixed(area_cm2 < 10 ? 2 : 1)}${THIN}cm² · ${percent(marked / Math.max(points, 1))}`
  })
  let before = view.mode.value
  let mounted = false
  function take() {
    if (on.value && mounted && !view.glancing.value && view.viewer.value?.surface.object.visible)
      part.takeSurface(() => void run())
  }
  function leave() {
    part.leaveSurface()
    if (marksSurface(view.tool.value)) view.use(null)
  }
  // The surface comes anew after every step.
  watch([view.snapshot, view.loading, view.glancing], ([, loading]) => !loading && take())
  watch(on, (now) => (now ? take() : leave()))
  onMounted(() => {
    mounted = true
    before = view.mode.value
    if (!ON_SURFACE.includes(before)) view.mode.value = 'shape'
    view.viewer.value?.style({ mode: view.mode.value })
    take()
  })
  onBeforeUnmount(() => {
    leave()
    view.mode.value = before
  })
  return { on, any: part.any, said, marks: part.marks }
}
