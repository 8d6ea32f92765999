import { computed, ref } from 'vue'
import type { Finding, StageName } from '@/api/client'
import type { BenchContext } from '@/bench/context'

/** Going from finding to finding: those of the stage that is open first, then the others in the order of the work. */
export function findingsPart({ bench, view, stage, goTo }: BenchContext) {
  const at = ref('')
  const ordered = computed(() => {
    const all = bench.bench.value?.findings ?? []
    return [...all.filter((f) => f.stage === stage.value), ...all.filter((f) => f.stage !== stage.value)]
  })
  function show(finding: Finding) {
    at.value = finding.name
    if (finding.place) view.viewer.value?.flyTo(finding.place)
  }
  /** The next finding, or the one before; after the last comes the first. */
  function step(by: 1 | -1) {
    const list = ordered.value
    if (!list.length) return
    const now = list.findIndex((f) => f.name === at.value)
    const next = now < 0 ? (by > 0 ? 0 : list.length - 1) : (now + by + list.length) % list.length
    const finding = list[next]
    show(finding)
    // The order changes with the stage: where one is stays known by its name.
    if (!finding.place && finding.stage !== stage.value) goTo(finding.stage as StageName)
  }
  return { at, ordered, show, step }
}
export const findings = (context: BenchContext) => context.part('findings', findingsPart)
