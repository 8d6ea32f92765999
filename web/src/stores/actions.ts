import { defineStore } from 'pinia'
import { computed, ref, shallowReactive } from 'vue'

/** Something a person can do, with its key; `key` is written as in `Ctrl+Shift+Z`, `Shift+T` or `S`. */
export interface Action {
  id: string
  title: string
  group: string
  key?: string
  enabled?: () => boolean
  run: () => void
}

/** How a keyboard event would be written as an action's key. */
export function keyOf(e: KeyboardEvent): string {
  const name = e.key.length === 1 ? e.key.toUpperCase() : e.key
  // Of signs such as ? Shift is a part already.
  const shifted = e.shiftKey && (e.ctrlKey || e.metaKey || e.key.length > 1 || /^[A-Z]$/.test(name))
  return `${e.ctrlKey || e.metaKey ? 'Ctrl+' : ''}${e.altKey ? 'Alt+' : ''}${shifted ? 'Shift+' : ''}${name}`
}

/** Where letters are written; a tick box or a slider takes none, a list of choices only while it is open. */
const TYPED_INTO =
  'input:not([type=checkbox], [type=radio], [type=range]), textarea, select, [contenteditable], [role=combobox][aria-expanded=true]'

/** All actions that are possible on the page that is open. */
export const useActions = defineStore('actions', () => {
  const all = shallowReactive(new Map<string, Action>())
  const paletteOpen = ref(false)
  const helpOpen = ref(false)
  const list = computed(() => [...all.values()])

  function offer(actions: Action[]): () => void {
    actions.forEach((a) => all.set(a.id, a))
    return () => actions.forEach((a) => all.get(a.id) === a && all.delete(a.id))
  }
  /** Run the action of a key; whether there is one. */
  function onKey(e: KeyboardEvent): boolean {
    const target = e.target as HTMLElement | null
    const typing = !!target?.closest(TYPED_INTO)
    const key = keyOf(e)
    if (typing && !key.startsWith('Ctrl+')) return false
    if (typing && key === 'Ctrl+Z') return false
    if (document.querySelector('[role="dialog"]') && !['Ctrl+K', '?'].includes(key)) return false
    // An arrow or End that a list of choices took.
    if (e.defaultPrevented && target?.closest('[role=combobox]')) return false
    const action = list.value.find((a) => a.key === key && (a.enabled?.() ?? true))
    if (!action || e.repeat) return !!action
    e.preventDefault()
    action.run()
    return true
  }
  /** Before others hear of a key: a sign pressed on a closed list of choices is an action's, and does not open the list. */
  function onKeyFirst(e: KeyboardEvent) {
    const closed = (e.target as HTMLElement | null)?.closest?.('[role=combobox]:not([aria-expanded=true])')
    if (closed && e.key.length === 1 && e.key !== ' ' && onKey(e)) e.stopPropagation()
  }
  return { list, paletteOpen, helpOpen, offer, onKey, onKeyFirst }
})
