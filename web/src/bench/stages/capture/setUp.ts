import { computed, reactive, ref, watch, type Ref } from 'vue'
import type { CapturePlan, InstrumentView } from '@/api/client'
import type { SuggestedPass } from '@/bench/stages/capture/sheetHandle'

/** How an object may lie on the table, in words, tip and about which horizontal line. */
export const POSES = [
  { label: 'Standing upright', tip: 0, about: 0 },
  { label: 'Lying on its back', tip: -90, about: 0 },
  { label: 'Lying on its front', tip: 90, about: 0 },
  { label: 'Lying on its side', tip: 90, about: 90 },
  { label: 'Lying on its other side', tip: -90, about: 90 },
  { label: 'Upside down', tip: 180, about: 0 },
]
/** In place of a path: the object is turned by hand, and each shot asked for. */
export const SHOTS = 'shots'
const MERGED = [1, 3, 8]
/** Rounds an exposure as one would set it. */
export const tidy = (ms: number) => Number(ms.toPrecision(2))

/** The settings of the next pass, copied from the last one; a plan as the server takes it. */
export function useSetUp(
  tables: Ref<InstrumentView[]>,
  passes: Ref<number>,
  last: Ref<Partial<CapturePlan>>,
) {
  const pose = ref(POSES[0])
  const set = reactive({
    instrument: '',
    title: 'upright',
    stops: 12,
    path: '',
    start: 0,
    elevation: 24,
    exposure: 8,
    merged: false,
    infrared: false,
    gated: false,
    near: 0,
    far: 0,
    colour: true,
    spacing: 0,
    delay: 0,
    heldBy: 'axis' as NonNullable<CapturePlan['held_by']>,
    sweep: '' as '' | NonNullable<CapturePlan['sweep']>,
    use: 'print' as NonNullable<CapturePlan['use']>,
  })
  const sheet = computed(() => tables.value.find((i) => i.name === set.instrument) ?? tables.value[0])

  watch([tables, last], ([known]) => known.length && take(last.value), { immediate: true })
  /** Take a set-up over, as the last pass had it or somebody kept it. */
  function take(before: Partial<CapturePlan>) {
    choose(before.instrument ?? tables.value[0].name)
    if (!before.instrument) return
    const exposures = before.exposure_ms ?? []
    Object.assign(set, {
      stops: before.stops ?? set.stops,
      path: before.shots ? SHOTS : (before.path ?? ''),
      heldBy: before.held_by ?? 'axis',
      sweep: before.sweep ?? '',
      use: before.use ?? 'print',
      start: before.start_deg ?? 0,
      elevation: before.elevation_deg ?? set.elevation,
      merged: exposures.length > 1,
      exposure: exposures.length ? exposures[0] : set.exposure,
      infrared: before.infrared ?? false,
      gated: !!before.gate_mm,
      colour: before.colour ?? true,
      spacing: before.spacing_mm ?? 0,
      delay: before.delay_s ?? 0,
    })
    if (before.gate_mm) [set.near, set.far] = before.gate_mm
  }
  watch(
    passes,
    (n) => {
      pose.value = POSES[n === 0 ? 0 : 2]
      set.start = 0
      set.title = n === 0 ? 'upright' : `tipped${n > 1 ? ` ${n}` : ''}`
    },
    { immediate: true },
  )
  /** Take an instrument, with what its sheet says for a start. */
  function choose(name: string) {
    const one = tables.value.find((i) => i.name === name) ?? tables.value[0]
    if (!one) return
    set.instrument = one.name
    set.path = one.kind === 'line' ? SHOTS : one.paths.length ? one.paths[1] : ''
    set.elevation = one.elevation_deg
    set.exposure = one.exposure_ms[1]
    set.infrared = set.infrared && one.infrared
    set.near = one.band_mm[0]
    set.far = one.band_mm[1]
  }
  /** Set up a pass that coverage suggests: how the object is laid, and for a table how the head looks at it. */
  function suggest(one: SuggestedPass) {
    pose.value = POSES.find((p) => p.tip === one.tip_deg && p.about === one.tip_about_deg) ?? pose.value
    set.title =
      pose.value.label.toLowerCase().replace(/^standing /, '') + (passes.value > 1 ? ` ${passes.value}` : '')
    if (sheet.value?.kind === 'hand') return
    set.stops = one.stops
    set.start = one.start_deg
    set.elevation = one.elevation_deg
    if (sheet.value?.kind === 'table') set.path = ''
  }
  const exposures = computed(() => {
    if (!set.merged) return [set.exposure]
    const longest = sheet.value?.exposure_ms[2] ?? set.exposure
    return [...new Set(MERGED.map((f) => Math.min(tidy(set.exposure * f), longest)))]
  })
  const plan = computed((): CapturePlan => ({
    instrument: set.instrument as CapturePlan['instrument'],
    title: set.title,
    stops: set.stops,
    ...(sheet.value?.kind === 'hand' ? byHand() : onTable()),
    tip_deg: pose.value.tip,
    tip_about_deg: pose.value.about,
    exposure_ms: exposures.value,
    infrared: set.infrared,
    ...(set.gated ? { gate_mm: [set.near, set.far] } : {}),
    colour: set.colour,
    spacing_mm: set.spacing,
    delay_s: set.delay,
  }))
  const byHand = () => ({
    use: set.use,
    ...(set.sweep ? { sweep: set.sweep } : {}),
    ...(set.heldBy === 'markers' ? { held_by: set.heldBy } : {}),
  })
  const onTable = () => ({
    ...(set.path && set.path !== SHOTS ? { path: set.path as CapturePlan['path'] } : {}),
    ...(set.path === SHOTS ? { shots: true } : set.heldBy !== 'axis' ? { held_by: set.heldBy } : {}),
    ...(set.path ? {} : { start_deg: set.start }),
    elevation_deg: set.elevation,
  })
  return { pose, set, sheet, plan, exposures, choose, take, suggest }
}
