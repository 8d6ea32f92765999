import { mount } from '@vue/test-utils'
import { describe, expect, it, vi } from 'vitest'
import { ref, shallowRef } from 'vue'
import type { BenchContext } from '@/bench/context'
import CheckForm from '@/bench/stages/mend/CheckForm.vue'

let context: BenchContext
vi.mock('@/bench/context', () => ({ useBenchContext: () => context }))

const checks = [
  { name: 'closed', holds: false, words: '2 open rims.', place: null, mend: 'close' },
  { name: 'walls', holds: false, words: '1 spot under 0.8 mm.', place: [1, 2, 3], mend: null },
  { name: 'foot', holds: true, words: 'It stands on 4.00 cm² that are flat.', place: null, mend: null },
]
const step = (operation: string, report: object = {}, undone = false) => ({ operation, report, undone })

let name = 'print_check'
function stand(...steps: object[]) {
  const made = {
    bench: {
      bench: ref({ steps, mesh: { watertight: true } }),
      catalogue: ref({
        operations: [
          { name: 'close', title: 'Close holes', parameters: [] },
          {
            name: 'engine_check',
            title: 'Engine check',
            parameters: [{ name: 'engine', default: 'page', choices: ['page', 'game'] }],
          },
          {
            name: 'print_check',
            title: 'Print check',
            parameters: [{ name: 'printer', default: 'filament-0.4', choices: ['filament-0.4', 'resin'] }],
          },
        ],
      }),
      operation: vi.fn(),
    },
    view: {
      viewer: shallowRef({ flyTo: vi.fn(), surface: { figures: vi.fn() }, ask: vi.fn() }),
      snapshot: ref('s1'),
      whole: ref(false),
      glancing: ref(false),
    },
    part: (_: string, make: (c: unknown) => unknown): unknown => make(made),
  }
  context = made as unknown as BenchContext
  const form = mount(CheckForm, { props: { busy: false, main: true, name } })
  return { ...made, form }
}

describe('the print check', () => {
  it('is asked for with a printer', async () => {
    const { form, bench } = stand(step('simplify'))
    expect(form.find('li').exists()).toBe(false)
    await form.get('[data-test=printer]').setValue('resin')
    await form.get('form').trigger('submit')
    expect(bench.operation).toHaveBeenCalledWith('print_check', { printer: 'resin' })
  })
  it('names each fault with its place and what mends it', async () => {
    const { form, bench, view } = stand(
      step('print_check', { checks, ready: false, printer: 'resin' }),
      step('undone', {}, true),
    )
    expect(form.get('[data-test=print-verdict]').text()).toBe('Not ready: 2 of 3 do not hold.')
    expect((form.get('[data-test=printer]').element as HTMLSelectElement).value).toBe('resin')
    const rows = form.findAll('li')
    expect(rows.map((row) => row.get('[role=img]').attributes('aria-label'))).toEqual([
      'does not hold',
      'does not hold',
      'holds',
    ])
    await rows[0].get('button').trigger('click')
    expect(bench.operation).toHaveBeenCalledWith('close')
    await rows[1].get('[aria-label="Go there: walls"]').trigger('click')
    expect(view.viewer.value.flyTo).toHaveBeenCalledWith([1, 2, 3])
    expect(rows[2].find('button').exists()).toBe(false)
  })
  it('says ready only when all hold, and nothing of a mesh that was changed since', () => {
    const ready = stand(step('print_check', { checks: [checks[2]], ready: true, printer: 'resin' }))
    expect(ready.form.get('[data-test=print-verdict]').text()).toBe('Ready to print.')
    const later = stand(step('print_check', { checks, ready: false, printer: 'resin' }), step('simplify'))
    expect(later.form.text()).toContain('Something was changed since the last check.')
    expect(later.form.find('li').exists()).toBe(false)
  })
  it('shows walls as colours, and takes them off again', async () => {
    const packed = new Uint8Array(8 + 64)
    vi.stubGlobal(
      'fetch',
      vi.fn(async () => ({ ok: true, arrayBuffer: async () => packed.buffer })),
    )
    const { form, view } = stand(step('print_check', { checks, ready: false, printer: 'resin' }))
    await form.get('[data-test=walls]').trigger('click')
    expect(fetch).toHaveBeenCalledWith('/api/snapshots/s1/walls', expect.anything())
    await form.get('[data-test=walls]').trigger('click')
    expect(view.viewer.value.surface.figures).toHaveBeenLastCalledWith(null, { range: 1, thin: true })
    form.unmount()
    vi.unstubAllGlobals()
  })
})

describe('the engine check', () => {
  it('asks what it is for, and has no walls', async () => {
    name = 'engine_check'
    const { form, bench } = stand(step('engine_check', { checks, ready: true, engine: 'game' }))
    expect(form.get('[data-test=print-verdict]').text()).toBe('Ready for it.')
    expect(form.find('[data-test=walls]').exists()).toBe(false)
    await form.get('form').trigger('submit')
    expect(bench.operation).toHaveBeenCalledWith('engine_check', { engine: 'game' })
    name = 'print_check'
  })
})
