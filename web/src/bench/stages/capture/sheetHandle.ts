import { computed, ref, type Ref } from 'vue'
import type { BenchContext } from '@/bench/context'

/** A pass that would add most: how the object is laid, how far the head looks down; what it adds, and knows already (0-1). */
export interface SuggestedPass {
  words: string
  stops: number
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
}
export const sheetHandle = (): SheetHandle => ({
  sheet: null,
  held: null,
  arrivals: null,
  suggested: ref(null),
})

/** The passes that coverage suggests, best first, and the way to set one up. */
export const suggestions = (context: BenchContext) => {
  const handle = context.part('capture', sheetHandle)
  const nexts = computed(() => {
    const told = context.live.coverage.value?.figures as
      { whole?: boolean; next?: SuggestedPass[] } | undefined
    return told?.whole && !context.bench.capturing.value ? (told.next ?? []) : []
  })
  const setUp = (one: SuggestedPass | undefined) => {
    if (!one) return
    handle.suggested.value = { ...one }
    context.goTo('capture')
  }
  return { nexts, setUp }
}
