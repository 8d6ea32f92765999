import type { OperationView, StageName } from '@/api/client'
import { OPERATION_KEYS, STAGES } from '@/features/worksheet/stages'
import type { Action } from '@/stores/actions'
import type { ViewMode } from '@/viewer/Viewer'

export const MODES: { name: ViewMode; label: string; key: string }[] = [
  { name: 'colour', label: 'Colour', key: '1' },
  { name: 'shape', label: 'Shape', key: '2' },
  { name: 'passes', label: 'Passes', key: '3' },
  { name: 'made-up', label: 'Made-up', key: '4' },
]

/** What a bench lets be done to it. */
export interface Hands {
  operations: OperationView[]
  formats: string[]
  idle: () => boolean
  computing: () => boolean
  hasMesh: () => boolean
  move: (which: 'undo' | 'redo') => void
  recipe: () => void
  startPass: () => void
  browse: () => void
  stop: () => void
  nextStage: () => void
  goTo: (stage: StageName) => void
  show: (mode: ViewMode) => void
  flip: (what: 'wires' | 'photos' | 'left' | 'tracks') => void
  frameAll: () => void
  look: (azimuth: number, elevation: number) => void
  light: (aside: number) => void
  operation: (name: string) => void
  download: (format: string) => void
}

/** All actions of the bench, each with its key. */
export function benchActions(h: Hands): Action[] {
  const { idle, computing, hasMesh } = h
  const one = (
    group: string,
    id: string,
    title: string,
    key: string | undefined,
    run: () => void,
    enabled?: () => boolean,
  ): Action => ({ id, title, group, key, run, enabled })
  return [
    one('Run sheet', 'undo', 'Undo', 'Ctrl+Z', () => h.move('undo'), idle),
    one('Run sheet', 'redo', 'Redo', 'Ctrl+Shift+Z', () => h.move('redo'), idle),
    one('Bench', 'recipe', 'Run the chosen recipe', 'R', h.recipe, idle),
    one('Bench', 'new-pass', 'Start a pass on the turntable', 'N', h.startPass, idle),
    one('Bench', 'import', 'Import a capture', 'I', h.browse, idle),
    one('Bench', 'stop', 'Stop what is computing', 'Escape', h.stop, computing),
    one('Bench', 'next', 'Next stage', 'Enter', h.nextStage),
    one('View', 'wire', 'Wireframe on or off', 'W', () => h.flip('wires')),
    one('View', 'texture', 'Colour on or off', 'X', () => h.flip('photos')),
    one('View', 'frame', 'Whole object in view', '0', h.frameAll),
    one('View', 'front', 'Look from the front', '7', () => h.look(0, 0.15)),
    one('View', 'above', 'Look from above', '8', () => h.look(0, 1.5)),
    one('View', 'light-left', 'Light to the left', ',', () => h.light(-0.25)),
    one('View', 'light-right', 'Light to the right', '.', () => h.light(0.25)),
    one('View', 'fold-left', 'Fold findings and run sheet', '[', () => h.flip('left')),
    one('View', 'fold-tracks', 'Fold pass tracks', ']', () => h.flip('tracks')),
    ...MODES.map((m) => one('View', `mode-${m.name}`, `View: ${m.label}`, m.key, () => h.show(m.name))),
    ...STAGES.map((s, n) =>
      one('Stages', `stage-${s}`, `Stage: ${s[0].toUpperCase()}${s.slice(1)}`, `Alt+${n + 1}`, () =>
        h.goTo(s),
      ),
    ),
    ...h.operations.map((o) =>
      one('Operations', `op-${o.name}`, o.title, OPERATION_KEYS[o.name], () => h.operation(o.name), idle),
    ),
    ...h.formats.map((f) =>
      one('Deliver', `dl-${f}`, `Download ${f.toUpperCase()}`, undefined, () => h.download(f), hasMesh),
    ),
  ]
}
