import { computed, reactive, ref, shallowRef, watch } from 'vue'
import type { BenchContext } from '@/bench/context'
import { shownTitles } from '@/bench/useView'
import { MarkThread } from '@/bench/marks/MarkThread'
import type { Drawn, Strokes } from '@/bench/viewer/tools/marking'
import type { MarkCloud } from '@/lib/blocks'
import { windowOf } from '@/lib/outline'
import { flagged } from '@/lib/packed'
import type { Marks, Stroke } from '@/lib/strokes'

/** What a preview counts of what is marked. */
export interface MarkFigures {
  marked: number
  points: number
  area_cm2: number
  passes: { pass: string; marked: number; points: number }[]
}
const NO_FIGURES: MarkFigures = { marked: 0, points: 0, area_cm2: 0, passes: [] }
/** The operation whose preview counts what is marked; the others that take marks count alike. */
const COUNTS = 'take_away'
/** How long the service waits to be asked, so that marks are shown before it takes the cores for counting them. */
const SHOWN_FIRST_MS = 30
/** How long only some points are drawn: until all are marked, as a rule. */
const SETTLED_MS = 600
/** What the vertices of the surface are called among passes. */
const SURFACE = -1

/** What a hand marks on the passes that are shown: strokes, in the order they were drawn, until they are used. */
export function marking({ bench, view, live }: BenchContext) {
  const strokes = shallowRef<Stroke[]>([])
  const underWay = shallowRef<Stroke | null>(null)
  const invert = ref(false)
  const adding = ref(true)
  const through = ref(false)
  const active = ref(false)
  const tips = reactive({ brush: 18, ball: 4, gap: 1 })
  /** Whether it is the surface that is marked, and not the points of passes. */
  const onSurface = ref(false)
  const ofSurface = shallowRef<MarkFigures>(NO_FIGURES)
  let vertices = 0
  let commit: (() => void) | null = null
  let finish: (() => boolean) | null = null
  let thread: MarkThread | null = null
  let counting = 0

  const passes = computed(() => bench.bench.value?.passes ?? [])
  const shown = computed(() => shownTitles(passes.value, view.hidden.value))
  const marks = computed<Marks>(() => ({ strokes: strokes.value, invert: invert.value }))
  const any = computed(() => strokes.value.length > 0 || invert.value)
  const parameters = computed(() => ({ marks: marks.value, passes: shown.value }))
  const figures = computed(() =>
    any.value && onSurface.value
      ? ofSurface.value
      : any.value
        ? ((live.preview.value?.figures as unknown as MarkFigures | undefined) ?? NO_FIGURES)
        : NO_FIGURES,
  )
  const counted = computed(
    () => any.value && (onSurface.value || 'marked' in (live.preview.value?.figures ?? {})),
  )

  watch([active, parameters], ([on], [was]) => {
    if (onSurface.value) return
    window.clearTimeout(counting)
    counting = 0
    if (on && any.value) counting = window.setTimeout(count, SHOWN_FIRST_MS)
    else if (on || was) live.hide(COUNTS)
  })
  // Shown at once from the points that are here; what the service counts takes its place.
  watch([active, marks, underWay], ([on], [was]) => {
    if (!on && !was) return
    const all = underWay.value ? [...strokes.value, underWay.value] : strokes.value
    if (on && (all.length || invert.value))
      thread?.ask({ strokes: all, invert: invert.value }, !onSurface.value)
    else {
      thread?.forget()
      if (onSurface.value) view.viewer.value?.surface.mark(null)
      else view.viewer.value?.points.unmark()
      view.viewer.value?.ask()
    }
  })
  watch(live.preview, (told) => {
    if (active.value && told && !told.behind && !ahead() && 'marked' in told.figures) thread?.enough()
  })
  watch(view.snapshot, clear)

  /** Whether marks are shown here that the service was not asked for yet. */
  const ahead = () => counting > 0 || !!underWay.value
  function count() {
    counting = 0
    if (active.value && any.value && !onSurface.value) live.show(COUNTS, parameters.value)
  }
  /** Points of a pass as they come into the view, or null when they leave it. */
  function points(pass: number, cloud: MarkCloud | null) {
    thread ??= new MarkThread(showFlags)
    thread.points(pass, cloud)
  }
  function showFlags(flags: Map<number, Uint8Array>, whole: boolean) {
    if (!active.value) return
    for (const [pass, own] of flags)
      if (pass === SURFACE) showOnSurface(own)
      else if (!onSurface.value) view.viewer.value?.points.markShown(pass, own)
    if (onSurface.value) view.viewer.value?.askOver()
    else if (whole) view.viewer.value?.ask()
    else view.viewer.value?.askLightly(SETTLED_MS)
  }
  function showOnSurface(flags: Uint8Array) {
    const mesh = bench.bench.value?.mesh
    if (!onSurface.value || !mesh) return
    view.viewer.value?.surface.mark(flags)
    let marked = 0
    for (let n = 0; n < vertices; n++) if (flagged(flags, n)) marked += 1
    const area = ((mesh.area_mm2 / 100) * marked) / Math.max(vertices, 1)
    ofSurface.value = { marked, points: vertices, area_cm2: area, passes: [] }
  }
  /** Mark the surface that is shown; Enter then does what is given. */
  function takeSurface(enter: () => void) {
    onSurface.value = true
    commit = enter
    const cloud = view.viewer.value?.surface.cloud() ?? null
    vertices = cloud?.count ?? 0
    points(SURFACE, cloud)
    active.value = true
  }
  function leaveSurface() {
    active.value = false
    clear()
    points(SURFACE, null)
    view.viewer.value?.surface.mark(null)
    view.viewer.value?.ask()
    onSurface.value = false
    commit = null
  }
  /** A stroke with the choices that hold for all of them; `other` takes out what would be added. */
  function full(drawn: Drawn, other: boolean): Stroke {
    const add = adding.value !== other
    if (drawn.shape === 'ball') return { ...drawn, add }
    if (drawn.shape === 'joined') return { ...drawn, gap_mm: tips.gap, crease_deg: 180, add }
    return { ...drawn, view: view.viewer.value!.asJson(), add, through: through.value }
  }
  const hand: Strokes = {
    begun(points) {
      if (!through.value) thread?.look(view.viewer.value!.asJson(), windowOf(points, 0))
    },
    under: (drawn, other) => (underWay.value = full(drawn, other)),
    done(drawn, other) {
      underWay.value = null
      if (drawn) strokes.value = [...strokes.value, full(drawn, other)]
    },
    get radiusPx() {
      return tips.brush
    },
    get radiusMm() {
      return tips.ball
    },
  }
  function stepBack() {
    strokes.value = strokes.value.slice(0, -1)
  }
  function clear() {
    strokes.value = []
    invert.value = false
  }
  /** Begin with marks that were drawn before. */
  function put(before: Marks) {
    strokes.value = before.strokes
    invert.value = before.invert
  }
  /** Make a step of it. */
  async function use(operation: string) {
    const now = parameters.value
    await bench.operation(operation, now)
  }
  /** What Enter does while a tool is on: close what is being drawn, else do what the card is for. */
  function enter() {
    if (finish?.() || !any.value || bench.busy.value) return
    if (commit) commit()
    else void use(COUNTS)
  }
  return {
    strokes,
    invert,
    ahead,
    adding,
    through,
    active,
    tips,
    any,
    counted,
    figures,
    parameters,
    marks,
    onSurface,
    takeSurface,
    leaveSurface,
    hand,
    points,
    stepBack,
    clear,
    put,
    use,
    enter,
    closes: (how: (() => boolean) | null) => (finish = how),
    dispose: () => thread?.dispose(),
  }
}
export const markingPart = (context: BenchContext) => context.part('marking', marking)
