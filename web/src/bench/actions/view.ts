import type { BenchContext } from '@/bench/context'
import { MODES } from '@/bench/useView'
import type { Action } from '@/stores/actions'

const TURN = 0.25 // radians that the light moves at a key

export function viewActions({ view }: BenchContext): Action[] {
  const { viewer } = view
  const action = (id: string, title: string, key: string, run: () => void): Action => ({
    id,
    title,
    key,
    run,
    group: 'View',
  })
  return [
    action('wire', 'Wireframe on or off', 'W', () => (view.wireframe.value = !view.wireframe.value)),
    action('texture', 'Colour on or off', 'X', () => (view.textured.value = !view.textured.value)),
    action('over', 'Raw points over the surface, or not', 'Shift+W', () => {
      view.over.value = !view.over.value
    }),
    action('frame', 'Whole object in view', '0', () => viewer.value?.frameAll()),
    action('front', 'Look from the front', '7', () => viewer.value?.lookFrom(0, 0.15)),
    action('above', 'Look from above', '8', () => viewer.value?.lookFrom(0, 1.5)),
    action('light-left', 'Light to the left', ',', () => viewer.value?.moveLight(-TURN, 0)),
    action('light-right', 'Light to the right', '.', () => viewer.value?.moveLight(TURN, 0)),
    action('fold-left', 'Fold findings and run sheet', '[', () => {
      view.leftFolded.value = !view.leftFolded.value
    }),
    action(
      'fold-tracks',
      'Fold pass tracks',
      ']',
      () => (view.tracksFolded.value = !view.tracksFolded.value),
    ),
    ...MODES.map((m) =>
      action(`mode-${m.name}`, `View: ${m.label}`, m.key, () => (view.mode.value = m.name)),
    ),
  ]
}
