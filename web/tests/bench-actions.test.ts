import { describe, expect, it, vi } from 'vitest'
import type { OperationView } from '@/api/client'
import { benchActions, type Hands } from '@/features/bench/actions'
import { OPERATION_KEYS } from '@/features/worksheet/stages'

const operations = Object.keys(OPERATION_KEYS).map((name) => ({ name, title: name })) as OperationView[]

function bench(more: Partial<Hands> = {}) {
  const names = [
    'move',
    'recipe',
    'startPass',
    'browse',
    'stop',
    'nextStage',
    'goTo',
    'show',
    'flip',
    'frameAll',
    'look',
    'light',
    'operation',
    'download',
  ]
  const hands = {
    operations,
    formats: ['stl', 'glb'],
    idle: () => true,
    computing: () => false,
    hasMesh: () => true,
    ...Object.fromEntries(names.map((n) => [n, vi.fn()])),
    ...more,
  } as unknown as Hands
  const all = benchActions(hands)
  return { hands, all, of: (id: string) => all.find((a) => a.id === id)! }
}
const possible = (all: ReturnType<typeof benchActions>) =>
  all.filter((a) => a.enabled?.() ?? true).map((a) => a.id)

describe('actions of the bench', () => {
  it('have a key each, and no key twice', () => {
    const { all } = bench()
    const keys = all.map((a) => a.key).filter(Boolean)
    expect(new Set(keys).size).toBe(keys.length)
    expect(all.filter((a) => !a.key).map((a) => a.group)).toEqual(['Deliver', 'Deliver'])
    expect(new Set(all.map((a) => a.id)).size).toBe(all.length)
  })
  it('leave looking and walking possible while something computes, and stopping only then', () => {
    const idle = possible(bench().all)
    const busy = possible(bench({ idle: () => false, computing: () => true, hasMesh: () => false }).all)
    expect(idle).toEqual(expect.arrayContaining(['undo', 'recipe', 'op-fuse', 'dl-stl']))
    expect(idle).not.toContain('stop')
    expect(busy).toEqual(
      expect.arrayContaining(['stop', 'next', 'mode-shape', 'stage-deliver', 'wire', 'frame']),
    )
    for (const id of ['undo', 'redo', 'recipe', 'new-pass', 'import', 'op-fuse', 'dl-glb'])
      expect(busy).not.toContain(id)
  })
  it('do what they say', () => {
    const { hands, of } = bench()
    of('redo').run()
    of('op-settle').run()
    of('mode-made-up').run()
    of('stage-clean').run()
    of('fold-tracks').run()
    of('light-left').run()
    of('above').run()
    of('dl-glb').run()
    expect(hands.move).toHaveBeenCalledWith('redo')
    expect(hands.operation).toHaveBeenCalledWith('settle')
    expect(hands.show).toHaveBeenCalledWith('made-up')
    expect(hands.goTo).toHaveBeenCalledWith('clean')
    expect(hands.flip).toHaveBeenCalledWith('tracks')
    expect(hands.light).toHaveBeenCalledWith(-0.25)
    expect(hands.look).toHaveBeenCalledWith(0, 1.5)
    expect(hands.download).toHaveBeenCalledWith('glb')
  })
})
