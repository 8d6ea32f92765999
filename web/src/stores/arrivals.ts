import { defineStore } from 'pinia'
import { shallowRef } from 'vue'
import { bringIn, type Said, type Sending } from '@/api/uploads'
import { useJobs } from '@/stores/jobs'

/** Files on their way to an object: they go on whichever page is open. */
export const useArrivals = defineStore('arrivals', () => {
  const jobs = useJobs()
  const sending = shallowRef<(Sending & { objectId: string }) | null>(null)
  let underWay: AbortController | null = null

  /** Sends files to an object; rejects with a sentence, resolves false when it was stopped. */
  async function bring(objectId: string, files: File[], said: Said = {}): Promise<boolean> {
    const mine = new AbortController()
    underWay = mine
    const first = { name: files[0].name, number: 1, files: files.length, sent: 0, secondsLeft: null }
    const bytes = files.reduce((sum, f) => sum + f.size, 0)
    sending.value = { ...first, bytes, objectId }
    try {
      const tell = (now: Sending) => (sending.value = { ...now, objectId })
      jobs.take(await bringIn(objectId, files, said, tell, mine.signal))
      return true
    } catch (error) {
      if (mine.signal.aborted) return false
      throw error
    } finally {
      if (underWay === mine) {
        underWay = null
        sending.value = null
      }
    }
  }
  const stop = () => underWay?.abort()
  return { sending, bring, stop }
})
