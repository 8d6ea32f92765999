import { flushPromises, mount } from '@vue/test-utils'
import { createPinia, setActivePinia } from 'pinia'
import { beforeEach, describe, expect, it, vi } from 'vitest'
import { announce, tellBy } from '@/composables/announce'
import QueuePage from '@/pages/QueuePage.vue'
import { job } from './samples'

const server = vi.hoisted(() => ({ GET: vi.fn(), POST: vi.fn() }))
vi.mock('@/api/client', () => ({ api: server, ask: (asked: unknown) => asked }))

const waits = (id: string, place: number) =>
  job({
    id,
    object_title: `Object ${id}`,
    state: 'queued',
    place,
    batch: true,
    created: `2026-03-0${place + 1}T10:00:00Z`,
  })

describe('queue', () => {
  const rows = [job({ id: 'runs' }), waits('a', 1), waits('b', 2), waits('c', 3)]
  let orders: string[][] = []
  beforeEach(() => {
    setActivePinia(createPinia())
    orders = []
    server.GET.mockResolvedValue(rows)
    server.POST.mockImplementation(async (_: string, asked: { body: { jobs: string[] } }) => {
      const { jobs } = asked.body
      orders.push(jobs)
      const changed = '2026-03-09T10:00:00Z'
      return jobs.map((id, n) => ({ ...rows.find((r) => r.id === id)!, place: n + 1, changed }))
    })
  })
  const page = async () => {
    const shown = mount(QueuePage, { global: { stubs: { RouterLink: { template: '<a><slot /></a>' } } } })
    await flushPromises()
    return shown
  }
  const named = (shown: Awaited<ReturnType<typeof page>>) =>
    shown.findAll('[data-test=job]').map((r) => r.find('a').text().replace('Object ', ''))

  it('takes the order that jobs are dragged into, over the row that one is let go on', async () => {
    const shown = await page()
    expect(named(shown)).toEqual(['Keel bolt', 'a', 'b', 'c'])
    const lines = shown.findAll('[data-test=job]')
    expect(lines.map((l) => l.attributes('draggable'))).toEqual(['false', 'true', 'true', 'true'])
    await lines[3].trigger('dragstart')
    await lines[1].trigger('drop')
    await flushPromises()
    expect(orders).toEqual([['c', 'a', 'b']])
    expect(named(shown)).toEqual(['Keel bolt', 'c', 'a', 'b'])
  })
  it('puts a job that is dragged down behind the row that it is let go on, and leaves what runs alone', async () => {
    const shown = await page()
    const lines = shown.findAll('[data-test=job]')
    await lines[1].trigger('dragstart')
    await lines[3].trigger('drop')
    await lines[2].trigger('dragstart')
    await lines[0].trigger('drop')
    await flushPromises()
    expect(orders).toEqual([['b', 'c', 'a']])
  })
  it('does the same by its arrows', async () => {
    const shown = await page()
    await shown.findAll('[data-test=sooner]')[2].trigger('click')
    await flushPromises()
    expect(orders).toEqual([['a', 'c', 'b']])
  })
})

describe('telling that something has ended', () => {
  const told: string[] = []
  let hidden = true
  beforeEach(() => {
    told.length = 0
    const Told = class {
      static permission = 'granted'
      constructor(title: string, more: { body: string }) {
        told.push(`${title}: ${more.body}`)
      }
    }
    vi.stubGlobal('Notification', Told)
    Object.defineProperty(document, 'hidden', { configurable: true, get: () => hidden })
  })
  it('notifies and counts in the title while one looks elsewhere, and stops counting when one is back', () => {
    tellBy({ sound: false, title: true, notification: true })
    announce('Owl inkwell: Print recipe is done')
    announce('Fog bell: Print recipe is done')
    expect(told).toEqual(['Owl inkwell', 'Fog bell'].map((o) => `Lucid Relic: ${o}: Print recipe is done`))
    expect(document.title).toBe('(2) Lucid Relic')
    hidden = false
    document.dispatchEvent(new Event('visibilitychange'))
    expect(document.title).toBe('Lucid Relic')
    announce('seen')
    expect(told).toHaveLength(2)
  })
  it('keeps still where it is switched off', () => {
    hidden = true
    tellBy({ sound: false, title: false, notification: false })
    announce('Owl inkwell: Print recipe is done')
    expect(told).toEqual([])
    expect(document.title).toBe('Lucid Relic')
  })
})
