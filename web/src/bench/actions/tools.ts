import type { BenchContext } from '@/bench/context'
import { STAGES } from '@/bench/stages'
import type { Action } from '@/stores/actions'

/** A tool is put on at its stage. */
export function toolActions(context: BenchContext): Action[] {
  const { bench, view, stage } = context
  return STAGES.flatMap((s) =>
    (s.tools ?? []).map((tool) => ({
      id: `tool-${tool.name}`,
      title: `Tool: ${tool.title}`,
      group: 'Tools',
      key: tool.key,
      enabled: () => stage.value === s.name && !bench.lookOnly.value && (tool.wanted?.(context) ?? true),
      run: () => view.use(tool),
    })),
  )
}
