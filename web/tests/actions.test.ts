import { createPinia, setActivePinia } from 'pinia'
import { beforeEach, describe, expect, it, vi } from 'vitest'
import { keyOf, useActions } from '@/stores/actions'

const press = (key: string, more: KeyboardEventInit = {}) => new KeyboardEvent('keydown', { key, ...more })

describe('actions', () => {
  beforeEach(() => setActivePinia(createPinia()))

  it('names keys as they are shown', () => {
    expect(keyOf(press('s'))).toBe('S')
    expect(keyOf(press('z', { ctrlKey: true, shiftKey: true }))).toBe('Ctrl+Shift+Z')
    expect(keyOf(press('?', { shiftKey: true }))).toBe('?')
    expect(keyOf(press('T', { shiftKey: true }))).toBe('Shift+T')
    // With caps lock a letter comes large without Shift.
    expect(keyOf(press('T'))).toBe('T')
  })
  it('runs the action of a key, but not a disabled one', () => {
    const run = vi.fn()
    const actions = useActions()
    let on = false
    actions.offer([{ id: 'a', title: 'A', group: 'g', key: 'S', enabled: () => on, run }])
    actions.onKey(press('s'))
    expect(run).not.toHaveBeenCalled()
    on = true
    actions.onKey(press('s'))
    expect(run).toHaveBeenCalledOnce()
  })
  it('forgets actions that were withdrawn', () => {
    const run = vi.fn()
    const actions = useActions()
    actions.offer([{ id: 'a', title: 'A', group: 'g', key: 'S', run }])()
    actions.onKey(press('s'))
    expect(run).not.toHaveBeenCalled()
    expect(actions.list).toEqual([])
  })
})
