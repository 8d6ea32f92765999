import { effectScope, inject, onScopeDispose, provide, type InjectionKey, type Ref } from 'vue'
import type { StageName } from '@/api/client'
import type { useBench } from '@/bench/useBench'
import type { useLive } from '@/bench/useLive'
import type { useView } from '@/bench/useView'

/** All that panels, tools and actions of a bench share. */
export interface BenchContext {
  readonly id: string
  /** What is known of the object, and what can be done with it. */
  readonly bench: ReturnType<typeof useBench>
  /** What the view shows and how. */
  readonly view: ReturnType<typeof useView>
  /** Previews from the live service. */
  readonly live: ReturnType<typeof useLive>
  readonly stage: Ref<StageName>
  goTo(stage: StageName): void
  /** Something that a stage keeps for as long as the bench is open; made when it is first asked for. */
  part<T>(name: string, make: (context: BenchContext) => T): T
}
const KEY: InjectionKey<BenchContext> = Symbol('bench')

/** Give a bench's context to all below. */
export function provideBench(parts: Omit<BenchContext, 'part'>): BenchContext {
  const kept = new Map<string, unknown>()
  // What a part watches it watches as long as the bench is open, whichever card asked for it first.
  const scope = effectScope(true)
  onScopeDispose(() => scope.stop())
  const context: BenchContext = {
    ...parts,
    part<T>(name: string, make: (context: BenchContext) => T): T {
      if (!kept.has(name))
        kept.set(
          name,
          scope.run(() => make(context)),
        )
      return kept.get(name) as T
    },
  }
  provide(KEY, context)
  return context
}

/** The context of the bench that a component stands on. */
export function useBenchContext(): BenchContext {
  const context = inject(KEY)
  if (!context) throw new Error('This component stands on no bench.')
  return context
}
