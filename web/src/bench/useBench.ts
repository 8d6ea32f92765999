import { computed, onBeforeUnmount, ref, shallowRef } from 'vue'
import {
  api,
  ask,
  type Bench,
  type CapturePlan,
  type Catalogue,
  type JobView,
  type RecipeView,
  type StepView,
  type Wish,
} from '@/api/client'
import type { Said } from '@/api/uploads'
import { announce } from '@/composables/announce'
import { useAsync } from '@/composables/useAsync'
import { useArrivals } from '@/stores/arrivals'
import { hasEnded, useJobs, type JobAct } from '@/stores/jobs'

/** State of one object's bench, kept true while its jobs run. */
export function useBench(id: string) {
  const jobs = useJobs()
  const arrivals = useArrivals()
  const bench = shallowRef<Bench | null>(null)
  const catalogue = shallowRef<Catalogue | null>(null)
  /** Those that ship, then the person's own. */
  const recipes = shallowRef<RecipeView[]>([])
  const job = shallowRef<JobView | null>(null)
  const lastFault = ref('')
  /** Sentences of what a job left out that did the rest. */
  const leftOut = ref('')
  /** The snapshot that is looked back at; null for the object as it is. */
  const at = ref<string | null>(null)
  /** The step that is being changed, on the state before it: what its card does changes it in place of running it. */
  const changed = shallowRef<StepView | null>(null)
  /** A replay that could not do a step again. */
  const stuck = shallowRef<JobView | null>(null)
  let keep: ((parameters: Record<string, unknown>) => void) | null = null
  const { busy: asking, fault, run } = useAsync()
  const path = { object_id: id }
  let ticket = 0
  let seenStep = 0

  async function load() {
    const mine = ++ticket
    const query = at.value ? { at: at.value } : {}
    const answer = await ask(api.GET('/api/objects/{object_id}', { params: { path, query } }))
    if (mine !== ticket) return
    bench.value = answer
    job.value = answer.job ?? null
  }
  const reload = () =>
    load().catch((e: Error) => {
      lastFault.value = e.message
      if (job.value?.kind === 'capture') job.value = null
    })
  const start = () =>
    run(async () => {
      // Before the object is shown: while something is still being fetched, keys of operations do nothing.
      const own = ask(api.GET('/api/recipes')).catch(() => null)
      catalogue.value = await ask(api.GET('/api/catalogue'))
      // A visitor has none of their own: those that ship stand in the catalogue.
      recipes.value = (await own) ?? catalogue.value.recipes
      await load()
    })

  const unlisten = jobs.listen((changed) => {
    if (changed.object_id !== id) return
    const ended = hasEnded(changed)
    // A pass that ended stays in the view until what became of it is known.
    if (!ended || changed.kind !== 'capture' || changed.state !== 'done') job.value = ended ? null : changed
    if (ended) {
      if (changed.state === 'failed') lastFault.value = changed.error
      else if (changed.state === 'done') leftOut.value = changed.error
      stuck.value = changed.stuck ? changed : null
      announce(`${changed.object_title}: ${changed.title} ${changed.state}`)
      void reload()
      seenStep = 0
    } else if (['recipe', 'replay'].includes(changed.kind) && changed.step !== seenStep) {
      seenStep = changed.step
      void reload()
    }
  })
  // Somebody changed the object on another page.
  const unlistenObjects = jobs.listenToObjects((changed) => {
    const shown = bench.value
    if (changed.id !== id || !shown || job.value || at.value) return
    if (changed.snapshot !== shown.snapshot || changed.looked !== shown.looked) void reload()
  })
  onBeforeUnmount(() => {
    unlisten()
    unlistenObjects()
  })

  async function begin(call: () => Promise<JobView>) {
    dismiss()
    at.value = changed.value = keep = null
    await run(async () => {
      const started = await call()
      job.value = started
      jobs.take(started)
    })
  }
  const recipe = (name: string) =>
    begin(() => ask(api.POST('/api/objects/{object_id}/runs', { params: { path }, body: { recipe: name } })))
  async function operation(name: string, parameters: Record<string, unknown> = {}) {
    if (changed.value) {
      if (name === changed.value.operation) keep?.(parameters)
      else lastFault.value = `You are changing “${changed.value.title}”. Keep that or come back first.`
      return
    }
    await begin(() =>
      ask(
        api.POST('/api/objects/{object_id}/runs', {
          params: { path },
          body: { operation: name, parameters },
        }),
      ),
    )
  }
  /** Look at the object as it was at a snapshot, or with null as it is. */
  async function lookAt(snapshot: string | null) {
    const same = !changed.value && at.value === snapshot
    changed.value = keep = null
    at.value = snapshot
    if (!same) await run(load)
  }
  /** Show the state before a step, whose card then gives other numbers for it. */
  const beginChange = (step: StepView, take: (parameters: Record<string, unknown>) => void) =>
    run(async () => {
      at.value = step.before
      keep = take
      changed.value = step
      await load()
    })
  /** Go on from a snapshot or from the tip of a branch. */
  const goOn = (where: { snapshot: string | null } | { branch: number }) =>
    run(async () => {
      const mine = ++ticket
      const answer = await ask(api.POST('/api/objects/{object_id}/head', { params: { path }, body: where }))
      at.value = null
      changed.value = keep = null
      if (mine === ticket) bench.value = answer
    })
  const replay = (
    changes: { step: number; parameters?: Record<string, unknown>; leave_out: boolean }[],
    name: string,
  ) =>
    begin(() =>
      ask(api.POST('/api/objects/{object_id}/replays', { params: { path }, body: { changes, name } })),
    )
  const goOnWithout = (stopped: JobView) =>
    begin(() => ask(api.POST('/api/jobs/{job_id}/without', { params: { path: { job_id: stopped.id } } })))
  /** Acts on the object's rows that answer with its bench. */
  const rows = (call: () => Promise<Bench>) =>
    run(async () => {
      const mine = ++ticket
      const answer = await call()
      if (mine === ticket && !at.value) bench.value = answer
    })
  const nameBranch = (branch: number, name: string) =>
    rows(() =>
      ask(
        api.PATCH('/api/objects/{object_id}/branches/{branch_id}', {
          params: { path: { ...path, branch_id: branch } },
          body: { name },
        }),
      ),
    )
  const throwBranchAway = (branch: number) =>
    rows(() =>
      ask(
        api.DELETE('/api/objects/{object_id}/branches/{branch_id}', {
          params: { path: { ...path, branch_id: branch } },
        }),
      ),
    )
  const acceptFinding = (name: string, word: string) =>
    rows(() => ask(api.POST('/api/objects/{object_id}/accepted', { params: { path }, body: { name, word } })))
  const mindFinding = (accepted: number) =>
    rows(() =>
      ask(
        api.DELETE('/api/objects/{object_id}/accepted/{accepted_id}', {
          params: { path: { ...path, accepted_id: accepted } },
        }),
      ),
    )
  const deliver = (wishes: Wish[]) =>
    begin(() => ask(api.POST('/api/objects/{object_id}/deliveries', { params: { path }, body: { wishes } })))
  const capture = (plan: CapturePlan) =>
    begin(() => ask(api.POST('/api/objects/{object_id}/captures', { params: { path }, body: plan })))
  /** Sends files here; each becomes a pass. */
  const bringIn = (files: File[], said: Said = {}) => {
    dismiss()
    return run(() => arrivals.bring(id, files, said))
  }
  /** Makes the pass that is held one of the object, with the frames first to last (from 1), and has it placed. */
  const accept = (first: number, last: number) =>
    run(async () => {
      const kept = held.value
      if (!kept) return
      const body = { first, last, place: true }
      const params = { path: { capture_id: kept.id } }
      const { job: placing } = await ask(api.POST('/api/captures/{capture_id}', { params, body }))
      await load()
      if (!placing) return
      job.value = placing
      jobs.take(placing)
    })
  const throwAway = () =>
    run(async () => {
      if (!held.value) return
      await ask(api.DELETE('/api/captures/{capture_id}', { params: { path: { capture_id: held.value.id } } }))
      await load()
    })
  /** Copies passes of another object here. */
  const bringOver = (source: string, passes: string[]) =>
    begin(() =>
      ask(api.POST('/api/objects/{object_id}/passes', { params: { path }, body: { source, passes } })),
    )
  const move = (which: 'undo' | 'redo') =>
    run(async () => {
      const call = which === 'undo' ? '/api/objects/{object_id}/undo' : '/api/objects/{object_id}/redo'
      // A load that began before must not bring back what was; one that begins meanwhile is newer than this.
      const mine = ++ticket
      const answer = await ask(api.POST(call, { params: { path } }))
      if (mine === ticket) bench.value = answer
    })
  const act = (what: Exclude<JobAct, 'again'>) => run(async () => job.value && jobs.act(job.value, what))
  /** Somebody else's object, shown to look at. */
  const lookOnly = computed(() => bench.value?.role === 'look')
  /** Shown as it was: nothing is done to it but the change of a step. */
  const lookingBack = computed(() => at.value != null)
  const busy = computed(
    () => asking.value || job.value != null || lookOnly.value || (lookingBack.value && !changed.value),
  )
  const notice = computed(() => fault.value || lastFault.value)
  /** The last step of each operation that led to what is shown. */
  const doneBy = computed(() => {
    const out: Record<string, StepView> = {}
    const steps = bench.value?.steps ?? []
    const end = lookingBack.value
      ? steps.findIndex((s) => s.after === bench.value?.snapshot) + 1
      : steps.filter((s) => !s.undone).length
    for (const s of steps.slice(0, end)) out[s.operation] = s
    if (changed.value) out[changed.value.operation] = changed.value
    return out
  })
  /** The capture that is running on this bench. */
  const capturing = computed(() =>
    job.value?.kind === 'capture' && job.value.state === 'running' ? job.value : null,
  )
  /** A pass that was taken, and is to be accepted or thrown away. */
  const held = computed(() => bench.value?.held ?? null)
  function dismiss() {
    fault.value = ''
    lastFault.value = ''
    leftOut.value = ''
    stuck.value = null
  }
  return {
    bench,
    catalogue,
    recipes,
    job,
    busy,
    lookOnly,
    notice,
    leftOut,
    doneBy,
    capturing,
    held,
    accept,
    throwAway,
    start,
    load,
    recipe,
    operation,
    deliver,
    capture,
    bringIn,
    bringOver,
    move,
    act,
    dismiss,
    at,
    changed,
    stuck,
    lookingBack,
    lookAt,
    beginChange,
    goOn,
    replay,
    goOnWithout,
    nameBranch,
    throwBranchAway,
    acceptFinding,
    mindFinding,
  }
}
