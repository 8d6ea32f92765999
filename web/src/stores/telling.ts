import { defineStore } from 'pinia'
import { reactive, watch } from 'vue'
import { tellBy, type Telling } from '@/composables/announce'

const KEY = 'telling'
const NAMES = ['sound', 'title', 'notification'] as const

/** What tells that something has ended, remembered on this computer. */
export const useTelling = defineStore('telling', () => {
  const ways = reactive<Telling>({ sound: true, title: true, notification: true, ...read() })
  watch(
    ways,
    (now) => {
      localStorage.setItem(KEY, JSON.stringify(now))
      tellBy(now)
    },
    { immediate: true },
  )
  return { ways }
})

function read(): Partial<Telling> {
  try {
    const kept = JSON.parse(localStorage.getItem(KEY) ?? '{}') as Record<string, unknown>
    return Object.fromEntries(NAMES.filter((n) => typeof kept[n] === 'boolean').map((n) => [n, kept[n]]))
  } catch {
    return {}
  }
}
