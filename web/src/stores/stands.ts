import { defineStore } from 'pinia'
import { shallowRef } from 'vue'
import { api, ask, type StandView } from '@/api/client'
import { useJobs } from '@/stores/jobs'

export type StandAct = 'connect' | 'disconnect' | 'provoke' | 'ask' | 'hand_over' | 'keep'
const REST_MS = 200 // between two looks, however often something changes

/** The instruments as they stand, kept true as long as somebody works here. */
export const useStands = defineStore('stands', () => {
  const stands = shallowRef<StandView[]>([])
  let timer = 0
  let unlisten: (() => void) | null = null

  const load = async () => void (stands.value = await ask(api.GET('/api/instruments')))
  function soon() {
    timer ||= window.setTimeout(() => {
      timer = 0
      void load().catch(() => undefined)
    }, REST_MS)
  }
  /** Look now, and again whenever something changes, until `leave`. */
  function watchOver() {
    if (unlisten) return
    unlisten = useJobs().listenToInstruments(soon)
    void load().catch(() => undefined)
  }
  function leave() {
    unlisten?.()
    unlisten = null
    window.clearTimeout(timer)
    timer = 0
    stands.value = []
  }
  async function act(name: string, what: StandAct, more: { fault?: string } = {}) {
    const params = { path: { name, act: what } }
    stands.value = await ask(
      api.POST('/api/instruments/{name}/{act}', { params, body: more as { fault?: '' } }),
    )
  }
  return { stands, load, watchOver, leave, act }
})
