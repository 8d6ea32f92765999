import { computed, nextTick, ref, shallowRef, watch } from 'vue'
import type { StageName, StepView } from '@/api/client'
import type { BenchContext } from '@/bench/context'
import { markingPart } from '@/bench/marks/marking'
import { MARK_CARD } from '@/bench/marks/tools'
import { stageOf } from '@/bench/stages'
import { standCut } from '@/bench/stages/clean/standCut'
import type { Marks } from '@/lib/strokes'

/** What is to be other in a step when it is done again: its numbers, or that it is left out. */
export interface StepChange {
  step: StepView
  parameters: Record<string, unknown> | null
}
/** Changes of earlier steps that are gathered until all that follows is done again as a branch. */
export function replaying(context: BenchContext) {
  const { bench, view, goTo } = context
  const changes = shallowRef<StepChange[]>([])
  const name = ref('')
  const steps = computed(() => bench.bench.value?.steps ?? [])
  const changedIds = computed(() => new Map(changes.value.map((c) => [c.step.id, c])))
  const first = computed(() => steps.value.findIndex((s) => changedIds.value.has(s.id)))
  /** How many steps a replay does again. */
  const again = computed(() =>
    first.value < 0
      ? 0
      : steps.value.slice(first.value).filter((s) => changedIds.value.get(s.id)?.parameters !== null).length,
  )
  // Steps that are not there any more cannot be changed.
  watch(steps, (now) => {
    const there = new Set(now.map((s) => s.id))
    if (changes.value.some((c) => !there.has(c.step.id)))
      changes.value = changes.value.filter((c) => there.has(c.step.id))
  })

  function put(change: StepChange) {
    changes.value = [...changes.value.filter((c) => c.step.id !== change.step.id), change]
  }
  /** Open a step's card on the state before it, with what it was done with. */
  async function change(step: StepView) {
    const kept = changedIds.value.get(step.id)?.parameters
    const parameters = { ...(step.parameters as Record<string, unknown>), ...kept }
    const shown = { ...step, parameters }
    const began = await bench.beginChange(shown, (given) => {
      put({ step, parameters: differing(step, given) })
      void bench.lookAt(null)
    })
    if (!began) return
    goTo(step.stage as StageName)
    await nextTick()
    const inCard = stageOf(step.stage as StageName).within?.includes(step.operation)
    view.card.value = inCard ? MARK_CARD : step.operation
    await nextTick()
    if (step.operation === 'stand_cut') context.part('standCut', standCut).take(parameters)
    if (parameters.marks) markingPart(context).put(parameters.marks as Marks)
  }
  const leaveOut = (step: StepView) => put({ step, parameters: null })
  const asItWas = (step: StepView) => (changes.value = changes.value.filter((c) => c.step.id !== step.id))
  function drop() {
    changes.value = []
    name.value = ''
  }
  async function replay() {
    if (!changes.value.length || bench.busy.value) return
    const told = changes.value.map(({ step, parameters }) => ({
      step: step.id,
      leave_out: parameters === null,
      ...(parameters ? { parameters } : {}),
    }))
    await bench.replay(told, name.value.trim())
    if (!bench.notice.value) drop()
  }
  return { changes, changedIds, name, first, again, change, leaveOut, asItWas, drop, replay }
}
export const replayingPart = (context: BenchContext) => context.part('replaying', replaying)

/** Numbers that differ from those that a step was done with. */
function differing(step: StepView, given: Record<string, unknown>): Record<string, unknown> {
  const before = step.parameters as Record<string, unknown>
  return Object.fromEntries(
    Object.entries(given).filter(([key, value]) => JSON.stringify(value) !== JSON.stringify(before[key])),
  )
}
