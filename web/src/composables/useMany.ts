import { ref, shallowRef } from 'vue'
import { api, ask, type RecipeView, type ShelfItem } from '@/api/client'
import { useAsync } from '@/composables/useAsync'
import { useJobs } from '@/stores/jobs'

/** Choosing objects on the shelf, and running a recipe on all of them. */
export function useMany() {
  const jobs = useJobs()
  const choosing = ref(false)
  const chosen = ref(new Set<string>())
  const recipes = shallowRef<RecipeView[]>([])
  const recipe = ref('')
  const said = ref('')
  const { busy, fault, run } = useAsync()

  function toggle() {
    choosing.value = !choosing.value
    chosen.value = new Set()
    said.value = ''
    if (choosing.value && !recipes.value.length)
      void run(async () => {
        recipes.value = await ask(api.GET('/api/recipes'))
        recipe.value = recipes.value[0]?.name ?? ''
      })
  }
  function choose(item: ShelfItem) {
    const next = new Set(chosen.value)
    if (!next.delete(item.id)) next.add(item.id)
    chosen.value = next
  }
  /** All that are shown, or none when all were chosen. */
  function all(items: ShelfItem[]) {
    const every = items.every((i) => chosen.value.has(i.id))
    chosen.value = new Set(every ? [] : items.map((i) => i.id))
  }
  const runAll = (items: ShelfItem[]) =>
    run(async () => {
      const body = {
        recipe: recipe.value,
        objects: items.map((i) => i.id).filter((id) => chosen.value.has(id)),
      }
      const { jobs: started, refused } = await ask(api.POST('/api/recipes/runs', { body }))
      started.forEach(jobs.take)
      const left = refused.map((r) => `${r.title}: ${r.why}`).join(' ')
      said.value = `${started.length} ${started.length === 1 ? 'object is' : 'objects are'} in the queue.${left ? ` Left out: ${left}` : ''}`
      chosen.value = new Set()
    }).then((ok) => ok || (said.value = fault.value))
  return { choosing, chosen, recipes, recipe, said, busy, toggle, choose, all, runAll }
}
