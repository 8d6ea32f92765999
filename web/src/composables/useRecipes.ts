import { computed, onBeforeUnmount, ref, shallowRef, watch } from 'vue'
import { api, ask, type Catalogue, type JudgedStep, type RecipeStep, type RecipeView } from '@/api/client'
import { useAsync } from '@/composables/useAsync'
import { BY_HAND, OF_ONE_OBJECT } from '@/lib/kinds'

/** A recipe as it is carried in a file. */
interface RecipeFile {
  title?: string
  help?: string
  steps?: RecipeStep[]
}

/** All recipes, and one of them that is looked at or edited. */
export function useRecipes() {
  const catalogue = shallowRef<Catalogue | null>(null)
  const recipes = shallowRef<RecipeView[]>([])
  const chosen = ref('')
  const title = ref('')
  const help = ref('')
  const steps = ref<RecipeStep[]>([])
  const judged = shallowRef<JudgedStep[]>([])
  const said = ref('')
  const { busy, fault, run } = useAsync()
  const recipe = computed(() => recipes.value.find((r) => r.name === chosen.value) ?? null)
  const fixed = computed(() => !!recipe.value && !recipe.value.own)
  const copied = <T>(value: T): T => JSON.parse(JSON.stringify(value)) as T
  const changed = computed(
    () =>
      !fixed.value &&
      JSON.stringify([title.value, help.value, steps.value]) !==
        JSON.stringify(
          recipe.value ? [recipe.value.title, recipe.value.help, recipe.value.steps] : ['', '', []],
        ),
  )
  const right = computed(
    () => !!title.value.trim() && steps.value.length > 0 && !judged.value.some((j) => j.fault),
  )

  function choose(name: string) {
    const found = recipes.value.find((r) => r.name === name)
    if (!found) return
    chosen.value = name
    take(found)
    said.value = ''
  }
  function take(from: RecipeFile) {
    title.value = from.title ?? ''
    help.value = from.help ?? ''
    steps.value = copied(from.steps ?? [])
  }
  /** What ships is the beginning of one of one's own. */
  function makeOwn() {
    chosen.value = ''
    title.value = `${title.value}, my way`
  }
  function begin() {
    chosen.value = ''
    take({})
  }
  async function load() {
    recipes.value = await ask(api.GET('/api/recipes'))
  }
  const save = () =>
    run(async () => {
      const body = { title: title.value.trim(), help: help.value.trim(), steps: steps.value }
      const kept = recipe.value?.own
        ? await ask(
            api.PUT('/api/recipes/{recipe_id}', { params: { path: { recipe_id: recipe.value.name } }, body }),
          )
        : await ask(api.POST('/api/recipes', { body }))
      await load()
      choose(kept.name)
      said.value = 'Saved.'
    })
  const remove = () =>
    run(async () => {
      if (!recipe.value?.own) return
      const gone = recipe.value
      await ask(api.DELETE('/api/recipes/{recipe_id}', { params: { path: { recipe_id: gone.name } } }))
      await load()
      chosen.value = ''
      // It can be had back by saving it once more.
      take(gone)
      said.value = `“${gone.title}” is deleted; save it to have it back.`
    })
  function share() {
    const file = { name: title.value, title: title.value, help: help.value, steps: steps.value }
    const link = document.createElement('a')
    link.href = URL.createObjectURL(new Blob([JSON.stringify(file, null, 1)], { type: 'application/json' }))
    link.download = `${
      title.value
        .trim()
        .toLowerCase()
        .replace(/[^a-z0-9]+/g, '-') || 'recipe'
    }.json`
    link.click()
    URL.revokeObjectURL(link.href)
  }
  async function bring(e: Event) {
    const input = e.target as HTMLInputElement
    const file = input.files?.[0]
    input.value = ''
    if (!file) return
    await run(async () => {
      let told: RecipeFile
      try {
        told = JSON.parse(await file.text()) as RecipeFile
      } catch {
        throw new Error(`${file.name} is no JSON. A recipe is JSON with “steps”.`)
      }
      if (!Array.isArray(told.steps)) throw new Error(`${file.name} has no “steps”: it is not a recipe.`)
      chosen.value = ''
      take({
        ...told,
        steps: told.steps.map((s) => ({ operation: s.operation, parameters: s.parameters ?? {} })),
      })
    })
  }
  function move(from: number, to: number) {
    const list = [...steps.value]
    list.splice(to, 0, ...list.splice(from, 1))
    steps.value = list
  }
  /** The form of a step shows all numbers; only those that differ from the defaults are kept. */
  function valuesOf(step: RecipeStep): Record<string, unknown> {
    const told = catalogue.value?.operations.find((o) => o.name === step.operation)?.parameters ?? []
    return new Proxy(Object.fromEntries(told.map((p) => [p.name, step.parameters[p.name] ?? p.default])), {
      get: (shown, name: string) => step.parameters[name] ?? shown[name],
      set: (_, name: string, value) => {
        const usual = told.find((p) => p.name === name)?.default
        if (JSON.stringify(value) === JSON.stringify(usual)) delete step.parameters[name]
        else step.parameters[name] = value
        return true
      },
    })
  }
  const numbers = (name: string) =>
    (catalogue.value?.operations.find((o) => o.name === name)?.parameters ?? []).filter(
      (p) => !BY_HAND.includes(p.kind) && !OF_ONE_OBJECT.includes(p.kind),
    )
  function unmark(n: number) {
    const step = steps.value[n]
    const told = catalogue.value?.operations.find((o) => o.name === step.operation)?.parameters ?? []
    for (const p of told) if (BY_HAND.includes(p.kind)) delete step.parameters[p.name]
  }
  let timer = 0
  let asked = 0
  watch(
    steps,
    (now) => {
      window.clearTimeout(timer)
      timer = window.setTimeout(async () => {
        const mine = ++asked
        const answer = now.length
          ? await ask(api.POST('/api/recipes/judged', { body: { steps: now } })).catch(() => [])
          : []
        if (mine === asked) judged.value = answer
      }, 250)
    },
    { deep: true },
  )
  const start = (wanted: string) =>
    run(async () => {
      catalogue.value = await ask(api.GET('/api/catalogue'))
      await load()
      choose(wanted || (recipes.value[0]?.name ?? ''))
    })
  onBeforeUnmount(() => window.clearTimeout(timer))
  return {
    catalogue,
    recipes,
    recipe,
    chosen,
    title,
    help,
    steps,
    judged,
    said,
    busy,
    fault,
    fixed,
    changed,
    right,
    choose,
    makeOwn,
    begin,
    save,
    remove,
    share,
    bring,
    move,
    valuesOf,
    numbers,
    unmark,
    start,
  }
}
