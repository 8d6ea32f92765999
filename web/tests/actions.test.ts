import { createPinia, setActivePinia } from 'pinia'
import { mount } from '@vue/test-utils'
import PrimeVue from 'primevue/config'
import Select from 'primevue/select'
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
  it('runs the action of a key on a closed list of choices, and leaves keys to an open one', async () => {
    const run = vi.fn()
    const actions = useActions()
    actions.offer([
      { id: 'a', title: 'A', group: 'g', key: 'R', run },
      { id: 'b', title: 'B', group: 'g', key: 'End', run },
    ])
    window.addEventListener('keydown', actions.onKeyFirst, { capture: true })
    window.addEventListener('keydown', actions.onKey)
    const list = mount(Select, {
      props: { options: ['Print', 'Rough'] },
      global: { plugins: [PrimeVue], stubs: { transition: false } },
      attachTo: document.body,
    })
    const box = list.find('[role=combobox]')
    const hit = (key: string) =>
      box.element.dispatchEvent(
        new KeyboardEvent('keydown', { key, code: key, bubbles: true, cancelable: true }),
      )

    hit('r')
    expect(run).toHaveBeenCalledOnce()
    expect(box.attributes('aria-expanded')).toBe('false')
    hit('o')
    await list.vm.$nextTick()
    expect(box.attributes('aria-expanded'), 'no action has this key: it begins a choice').toBe('true')
    hit('r')
    hit('End')
    expect(run, 'an open list has its keys').toHaveBeenCalledOnce()
    list.unmount()
    window.removeEventListener('keydown', actions.onKeyFirst, { capture: true })
    window.removeEventListener('keydown', actions.onKey)
  })
})
