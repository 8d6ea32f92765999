import { ref } from 'vue'
import { api, ask, type DrawnStep } from '@/api/client'
import type { BenchContext } from '@/bench/context'
import { useAsync } from '@/composables/useAsync'

/** A step that may go into a recipe, and whether it does. */
export interface OfferedStep extends DrawnStep {
  wanted: boolean
}

/** Saving what was done as a recipe. */
export function saving({ id }: BenchContext) {
  const open = ref(false)
  const title = ref('')
  const marks = ref(false)
  const steps = ref<OfferedStep[]>([])
  const saved = ref('')
  const { busy, fault, run } = useAsync()

  const fetchSteps = () =>
    run(async () => {
      const params = { path: { object_id: id }, query: { marks: marks.value } }
      const drawn = await ask(api.GET('/api/objects/{object_id}/recipe', { params }))
      steps.value = drawn.map((s) => ({ ...s, wanted: !s.why }))
    })
  function begin() {
    title.value = saved.value = ''
    open.value = true
    void fetchSteps()
  }
  const save = () =>
    run(async () => {
      const body = {
        title: title.value.trim(),
        steps: steps.value
          .filter((s) => s.wanted)
          .map(({ operation, parameters }) => ({ operation, parameters })),
      }
      const made = await ask(api.POST('/api/recipes', { body }))
      saved.value = made.name
    })
  return { open, title, marks, steps, saved, busy, fault, begin, fetchSteps, save }
}
export const savingPart = (context: BenchContext) => context.part('saving', saving)
