import { computed, reactive, ref, watch } from 'vue'
import type { Bench } from '@/api/client'
import type { BenchContext } from '@/bench/context'

export type Numbers = NonNullable<Bench['adjust']>
export const AS_LAID: Numbers = {
  white: null,
  light: 0,
  contrast: 0,
  highlights: 0,
  shadows: 0,
  warmth: 0,
  tint: 0,
  saturation: 0,
  gamma: 1,
}
const same = (a: Numbers, b: Numbers) =>
  (Object.keys(AS_LAID) as (keyof Numbers)[]).every((k) => String(a[k]) === String(b[k]))

/** How the laid colour is shown: as it is kept, or as a hand tries it, with a curtain before which it is as laid. */
export function colourLook({ bench, view }: BenchContext) {
  const kept = computed<Numbers>(() => bench.bench.value?.adjust ?? AS_LAID)
  const values = reactive<Numbers>({ ...AS_LAID })
  const trying = ref(false)
  const curtain = ref<number | null>(null)
  const shown = computed(() => (trying.value ? values : kept.value))
  const changed = computed(() => !same(values, kept.value))
  function takeKept() {
    Object.assign(values, kept.value)
  }
  function show() {
    const viewer = view.viewer.value
    if (!viewer) return
    const plain = same(shown.value, AS_LAID)
    viewer.adjust(plain ? null : { ...shown.value, curtain: trying.value ? curtain.value : null })
    viewer.surface.shine(bench.bench.value?.roughness ?? 0.8)
  }
  function begin() {
    takeKept()
    trying.value = true
  }
  function end() {
    trying.value = false
    curtain.value = null
  }
  /** A click on what should be grey, in the view: its colour as laid. */
  function grey(sight: Parameters<NonNullable<typeof view.viewer.value>['surface']['colourAt']>[0]) {
    const colour = view.viewer.value?.surface.colourAt(sight)
    if (colour) values.white = colour
    return !!colour
  }
  const hex = (colour: number[]) =>
    `#${colour.map((v) => Math.round(v).toString(16).padStart(2, '0')).join('')}`
  const keep = () =>
    bench.operation('adjust_colour', { ...values, white: values.white ? hex(values.white) : null })
  watch(kept, takeKept, { immediate: true })
  watch([shown, curtain, view.viewer, () => bench.bench.value?.roughness], show, {
    deep: true,
    immediate: true,
  })
  return { kept, values, trying, curtain, changed, begin, end, grey, hex, keep, show }
}
export const lookPart = (context: BenchContext) => context.part('colour-look', colourLook)
