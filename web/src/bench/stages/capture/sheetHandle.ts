import { computed, ref, type Ref } from 'vue'
import type { BenchContext } from '@/bench/context'
import type { Lay } from '@/bench/viewer/LayInset'

/** A pass that would add most: how the object is laid, where the plate stands at its first stop, how far the head looks down; what it adds, and knows already (0-1). */
export interface SuggestedPass {
  words: string
  stops: number
  start_deg: number
  tip_deg: number
  tip_about_deg: number
  elevation_deg: number
  gain: number
  common: number
}
/** The sheets of the stage while they are there, for actions from elsewhere. */
export interface SheetHandle {
  sheet: { start(): void } | null
  held: { accept(): void; drop(): void } | null
  arrivals: { browse(): void; take(files: File[]): void } | null
  /** What was last taken of what coverage suggests. */
  suggested: Ref<SuggestedPass | null>
  /** Of which pass to come, or to be placed, the place of what it shares is shown; see `Expected.name`. */
  where: Ref<string | null>
}
/** A pass that coverage tells the share in common of (0-1), by its name, with its number among the arrays of the surface. */
export interface Expected {
  name: string
  common: number
  number: number
}
export const sheetHandle = (): SheetHandle => ({
  sheet: null,
  held: null,
  arrivals: null,
  suggested: ref(null),
  where: ref(null),
})

/** The passes that coverage suggests, best first, and the way to set one up. */
export const suggestions = (context: BenchContext) => {
  const handle = context.part('capture', sheetHandle)
  const nexts = computed(() => {
    const told = context.live.coverage.value?.figures as
      { whole?: boolean; next?: SuggestedPass[] } | undefined
    return told?.whole && !context.bench.capturing.value ? (told.next ?? []) : []
  })
  /** Passes that were taken and are not placed yet, as far as is known how the object lay. */
  const waiting = computed<Expected[]>(() => {
    const told = context.live.coverage.value?.figures as
      { waiting?: { title: string; common: number }[] } | undefined
    return (told?.waiting ?? []).map(({ title, common }, n) => ({
      name: title,
      common,
      number: nexts.value.length + n,
    }))
  })
  /** Whose share is shown in the view. */
  const shown = computed<Expected | null>(() => {
    const coming = nexts.value.map(({ words, common }, number) => ({ name: words, common, number }))
    return [...coming, ...waiting.value].find((e) => e.name === handle.where.value) ?? null
  })
  /** How the object lies for it. */
  const lay = computed<Lay | null>(() => {
    const told = context.live.coverage.value?.figures as { lays?: Lay[] } | undefined
    return (shown.value && told?.lays?.[shown.value.number]) ?? null
  })
  const show = (name: string) => (handle.where.value = handle.where.value === name ? null : name)
  const setUp = (one: SuggestedPass | undefined) => {
    if (!one) return
    handle.suggested.value = { ...one }
    context.goTo('capture')
  }
  return { nexts, waiting, shown, lay, show, setUp }
}
