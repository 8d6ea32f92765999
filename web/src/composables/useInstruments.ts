import { computed, ref } from 'vue'
import { api, ask, type CheckView } from '@/api/client'
import { useAsync } from '@/composables/useAsync'
import { useStands, type StandAct } from '@/stores/stands'

const UNDER_WAY = ['waiting', 'running']

/** One of the instruments at a time, and what can be done with it. */
export function useInstruments() {
  const store = useStands()
  const chosen = ref('')
  const { busy, fault, run } = useAsync()
  const stands = computed(() => store.stands)
  const shown = computed(() => stands.value.find((s) => s.name === chosen.value) ?? stands.value[0] ?? null)
  /** The check of the chosen instrument that is under way. */
  const running = computed(() => shown.value?.checks.find((c) => UNDER_WAY.includes(c.state)) ?? null)

  const act = (what: StandAct, more: { fault?: string } = {}) =>
    run(() => store.act(shown.value!.name, what, more))
  const begin = (kind: string) =>
    run(async () => {
      const body = { kind: kind as 'board' }
      const params = { path: { name: shown.value!.name } }
      await ask(api.POST('/api/instruments/{name}/checks', { params, body }))
      await store.load()
    })
  const stop = (check: CheckView) =>
    run(() => ask(api.DELETE('/api/checks/{check_id}', { params: { path: { check_id: check.id } } })))
  void run(store.load)
  return { stands, chosen, shown, running, busy, fault, act, begin, stop }
}
