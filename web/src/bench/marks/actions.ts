import type { BenchContext } from '@/bench/context'
import { markingPart } from '@/bench/marks/marking'
import type { Action } from '@/stores/actions'

/** What is done with strokes by keys, as long as something is being marked. */
export function markActions(context: BenchContext): Action[] {
  const marks = () => markingPart(context)
  const action = (id: string, title: string, key: string, run: () => void): Action => ({
    id: `mark-${id}`,
    title,
    group: 'Marking',
    key,
    enabled: () => marks().active.value,
    run,
  })
  return [
    action('sign', 'Strokes add, or take out', '-', () => (marks().adding.value = !marks().adding.value)),
    action('depth', 'Only what is seen, or through the object', '=', () => {
      marks().through.value = !marks().through.value
    }),
    action('invert', 'Turn what is marked round', '/', () => (marks().invert.value = !marks().invert.value)),
    action('back', 'Take the last stroke back', 'Backspace', () => marks().stepBack()),
    action('clear', 'Clear what is marked', 'Shift+Backspace', () => marks().clear()),
  ]
}
