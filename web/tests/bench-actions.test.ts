import { setActivePinia, createPinia } from 'pinia'
import { beforeEach, describe, expect, it, vi } from 'vitest'
import { ref, shallowRef } from 'vue'
import type { OperationView, StageName } from '@/api/client'
import { benchActions } from '@/bench/actions'
import { sheetHandle } from '@/bench/stages/capture/sheetHandle'
import type { BenchContext } from '@/bench/context'
import { STAGES } from '@/bench/stages'
import type { ToolDefinition } from '@/bench/stages/definition'

const KEYS: Record<string, string> = {
  place_frames: 'P',
  stand_cut: 'S',
  trim_fuzz: 'Z',
  find_fit: 'F',
  settle: 'T',
  fuse: 'U',
  close: 'C',
  gather_points: 'B',
  largest_piece: 'L',
  simplify: 'Y',
  remesh: 'E',
  lay_colour: 'O',
  stand_up: 'H',
}
const operations = Object.entries(KEYS).map(([name, key]) => ({ name, title: name, key })) as OperationView[]
const formats = ['stl', 'glb'].map((name) => ({ name, help: '', carries: [] }))

function bench({
  busy = false,
  job = null as unknown,
  mesh = {} as unknown,
  capturing = null as unknown,
} = {}) {
  const viewer = { frameAll: vi.fn(), lookFrom: vi.fn(), moveLight: vi.fn() }
  const tool = shallowRef<ToolDefinition | null>(null)
  const parts = new Map<string, unknown>()
  const context = {
    id: 'o1',
    bench: {
      busy: ref(busy),
      lookOnly: ref(false),
      lookingBack: ref(false),
      changed: ref(null),
      capturing: ref(capturing),
      held: ref(null),
      job: ref(job),
      bench: ref({ mesh }),
      catalogue: ref({ operations, formats }),
      move: vi.fn(),
      act: vi.fn(),
      operation: vi.fn(),
    },
    view: {
      viewer: shallowRef(viewer),
      tool,
      snapshot: ref('s1'),
      hidden: ref<boolean[]>([]),
      mode: ref('colour'),
      wireframe: ref(false),
      textured: ref(true),
      leftFolded: ref(false),
      tracksFolded: ref(false),
      use: vi.fn((t: ToolDefinition | null) => (tool.value = t)),
    },
    live: { coverage: ref(null as unknown), preview: ref(null), show: vi.fn(), hide: vi.fn() },
    stage: ref<StageName>('clean'),
    goTo: vi.fn(),
    part: (name: string, make: (c: unknown) => unknown) => {
      if (!parts.has(name)) parts.set(name, make(context))
      return parts.get(name)
    },
  } as unknown as BenchContext & { goTo: ReturnType<typeof vi.fn> }
  const recipe = vi.fn()
  const all = benchActions(context, recipe)
  return { context, viewer, recipe, all, of: (id: string) => all.find((a) => a.id === id)! }
}
const possible = (all: ReturnType<typeof benchActions>) =>
  all.filter((a) => a.enabled?.() ?? true).map((a) => a.id)

beforeEach(() => setActivePinia(createPinia()))

describe('actions of the bench', () => {
  it('have a key each but downloads; where two share one, only one is possible at a time', () => {
    const { all } = bench()
    const keys = all.map((a) => a.key).filter(Boolean)
    const twice = keys.filter((key, n) => keys.indexOf(key) !== n)
    // What marks has the same keys at each stage where something is marked.
    const marking = ['6', '9', 'A', 'Alt+W', 'Alt+X'].flatMap((key) => [key, key, key, key])
    expect(twice.sort()).toEqual([...marking, 'A', 'A', 'N', 'V'].sort())
    const byHand = { kind: 'capture', by_hand: true, state: 'running', frames: 3 }
    for (const some of [bench(), bench({ busy: true, capturing: byHand, job: byHand })])
      for (const key of twice) {
        const able = some.all.filter((a) => a.key === key && (a.enabled?.() ?? true))
        expect(able.length, key).toBeLessThan(2)
      }
    expect(all.filter((a) => !a.key).map((a) => a.group)).toEqual(['Deliver', 'Deliver'])
    expect(new Set(all.map((a) => a.id)).size).toBe(all.length)
    // The keys that are everywhere (App.vue).
    for (const taken of ['Ctrl+K', '?', 'G', 'Q', 'D']) expect(keys).not.toContain(taken)
  })
  it('set up the pass that adds most, when there is one', () => {
    const { context, of } = bench()
    expect(of('set-up-next').enabled!()).toBe(false)
    const next = [{ words: 'a turn lying on its side', stops: 12, tip_deg: 90, tip_about_deg: 90, gain: 0.2 }]
    context.live.coverage.value = { figures: { whole: true, next } } as never
    expect(of('set-up-next').enabled!()).toBe(true)
    of('set-up-next').run()
    expect(context.goTo).toHaveBeenCalledWith('capture')
    expect(context.part('capture', sheetHandle).suggested.value).toEqual(next[0])
  })
  it('leave looking and walking possible while something computes, and stopping only then', () => {
    const idle = possible(bench().all)
    const busy = possible(bench({ busy: true, job: {}, mesh: null }).all)
    expect(idle).toEqual(expect.arrayContaining(['undo', 'recipe', 'op-fuse', 'dl-stl']))
    expect(idle).not.toContain('stop')
    expect(busy).toEqual(
      expect.arrayContaining(['stop', 'next', 'mode-shape', 'stage-deliver', 'wire', 'frame']),
    )
    for (const id of ['undo', 'redo', 'recipe', 'new-pass', 'import', 'op-fuse', 'dl-glb'])
      expect(busy).not.toContain(id)
  })
  it('do what they say', () => {
    const { context, viewer, recipe, of } = bench()
    of('redo').run()
    of('op-settle').run()
    of('mode-made-up').run()
    of('stage-set').run()
    of('fold-tracks').run()
    of('light-left').run()
    of('above').run()
    of('recipe').run()
    expect(context.bench.move).toHaveBeenCalledWith('redo')
    expect(context.bench.operation).toHaveBeenCalledWith('settle')
    expect(context.view.mode.value).toBe('made-up')
    expect(context.goTo).toHaveBeenCalledWith('set')
    expect(context.view.tracksFolded.value).toBe(true)
    expect(viewer.moveLight).toHaveBeenCalledWith(-0.25, 0)
    expect(viewer.lookFrom).toHaveBeenCalledWith(0, 1.5)
    expect(recipe).toHaveBeenCalledOnce()
  })
  it('put a tool on at its stage only; Escape puts it away before it stops anything', () => {
    const { context, of } = bench({ job: {} })
    of('tool-draw-line').run()
    expect(context.view.tool.value?.name).toBe('draw-line')
    expect(possible([of('next')])).toEqual([])
    of('stop').run()
    expect(context.view.tool.value).toBeNull()
    expect(context.bench.act).not.toHaveBeenCalled()
    of('stop').run()
    expect(context.bench.act).toHaveBeenCalledWith('cancel')
    context.stage.value = 'fuse'
    expect(possible([of('tool-draw-line')])).toEqual([])
  })
  it('go on to the next stage at Enter, and with a tool do what it does there', () => {
    const { context, of } = bench()
    of('next').run()
    expect(context.goTo).toHaveBeenCalledWith('align')
    const enter = vi.fn()
    context.view.tool.value = { name: 'x', title: '', key: '', hint: '', make: vi.fn(), enter }
    of('next').run()
    expect(enter).toHaveBeenCalledWith(context)
  })
})

describe('the registry of stages', () => {
  it('has every stage once, with a title and a question', () => {
    expect(STAGES.map((s) => s.name)).toEqual([
      'capture',
      'clean',
      'align',
      'fuse',
      'mend',
      'colour',
      'set',
      'deliver',
    ])
    for (const s of STAGES) expect(s.title && s.question.endsWith('?')).toBe(true)
  })
  it('gives every tool a hint', () => {
    for (const t of STAGES.flatMap((s) => s.tools ?? [])) expect(t.hint.length).toBeGreaterThan(20)
  })
})
