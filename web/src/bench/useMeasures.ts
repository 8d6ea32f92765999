import * as THREE from 'three'
import { watch, type Ref } from 'vue'
import type { BenchContext } from '@/bench/context'
import { letterOf } from '@/bench/stages/align/matching'
import { valueOf } from '@/bench/stages/set/lengths'
import { spotsPart } from '@/bench/stages/set/spots'
import type { ViewState } from '@/bench/viewer/camera'

const SHOWN_AT = ['set', 'deliver']

/** The object's lengths drawn in the view where they are made and delivered, and the places that are picked just now. */
export function useMeasures({ bench, view, stage, ...rest }: BenchContext, state: Ref<ViewState>) {
  const { shown, role } = spotsPart({ bench, view, stage, ...rest })
  function draw() {
    const viewer = view.viewer.value
    if (!viewer) return
    const at = (place: number[]) => viewer.project(new THREE.Vector3().fromArray(place))
    const here = SHOWN_AT.includes(stage.value) && !bench.capturing.value
    const lengths = here ? (bench.bench.value?.lengths ?? []) : []
    const kept = lengths.map((l) => ({ ends: l.places.map(at), words: `${l.name} ${valueOf(l)}` }))
    const picks = role.value ? shown.value.map((p, n) => ({ ends: [at(p)], words: letterOf(n) })) : []
    viewer.lines.measures([...kept, ...picks])
  }
  watch([state, shown, role, stage, bench.bench, view.viewer], draw, { deep: true })
}
