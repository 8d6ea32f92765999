import type { BenchContext } from '@/bench/context'
import { STAGES } from '@/bench/stages'
import type { Action } from '@/stores/actions'

/** A tool is put on at its stage. */
export function toolActions({ bench, view, stage }: BenchContext): Action[] {
  return STAGES.flatMap((s) =>
    (s.tools ?? []).map((tool) => ({
      id: `tool-${tool.name}`,
      title: `Tool: ${tool.title}`,
      group: 'Tools',
      key: tool.key,
      enabled: () => stage.value === s.name && !bench.lookOnly.value,
      run: () => view.use(tool),
    })),
  )
}
