import { computed, ref, shallowRef, watch } from 'vue'
import { fetchGeometry, LatestOnly } from '@/api/geometry'
import type { BenchContext } from '@/bench/context'
import type { CompareHow } from '@/bench/viewer/layers/Compare'
import { usualMost } from '@/bench/viewer/layers/surfaceMaterial'
import { unpack } from '@/lib/packed'

const BINS = 24
/** As many triangles of a take come by themselves; the server shows more of it only when it is asked for. */
const MOST_AT_ONCE = 300_000
/** How far one take lies off another: shares of its vertices by distance (mm), how far all but a twentieth lie, and the mean. */
export interface Apart {
  bins: number[]
  most: number
  mean: number
}

/** Two takes of the object beside each other in the view. */
export function takesPart({ bench, view }: BenchContext) {
  const left = ref('')
  const right = ref('')
  const how = ref<CompareHow | null>(null)
  const curtain = ref(0.5)
  const loading = ref(false)
  const fault = ref('')
  const apart = shallowRef<Apart | null>(null)
  const asked = new LatestOnly()
  const takes = computed(() => bench.bench.value?.takes ?? [])
  /** Whether branches are compared in place of takes: the surfaces at their tips. */
  const ofBranches = ref(false)
  const branches = computed(() => (bench.bench.value?.branches ?? []).filter((b) => b.surface))
  /** What can be held against each other: the name of each, its surface, and how far it lies off another. */
  const sides = computed(() =>
    ofBranches.value
      ? branches.value.map((b) => ({
          name: b.name,
          url: `/api/snapshots/${b.tip}/surface`,
          off: (other: number) => `/api/snapshots/${b.tip}/off/${branches.value[other].tip}`,
        }))
      : takes.value.map((t, n) => ({
          name: t.name,
          url: `/api/snapshots/${view.snapshot.value}/takes/${n}`,
          off: (other: number) => `/api/snapshots/${view.snapshot.value}/takes/${n}/off/${other}`,
        })),
  )
  /** Whether as much of large takes is shown as a view can turn; without, what turns with the hand everywhere. */
  const whole = ref(false)
  /** Whether what is compared is so large that less of it comes at first. */
  const large = computed(() => {
    const compared = takes.value.filter((t) => [left.value, right.value].includes(t.name))
    const sizes = ofBranches.value
      ? [bench.bench.value?.mesh?.triangles ?? 0]
      : compared.map((t) => t.triangles)
    return Math.max(0, ...sizes) > MOST_AT_ONCE
  })
  const numberOf = (name: string) => sides.value.findIndex((side) => side.name === name)
  let values: Float32Array | null = null
  let of = ''

  async function load() {
    const [a, b] = [numberOf(left.value), numberOf(right.value)]
    const viewer = view.viewer.value
    if (!how.value || a < 0 || b < 0 || !viewer) return
    const [one, other] = [sides.value[a], sides.value[b]]
    const much = whole.value ? '?whole=1' : ''
    const key = `${one.url} ${other.url}${much}`
    if (of === key) return
    of = key
    loading.value = true
    fault.value = ''
    await asked
      .run(
        async (signal) => {
          const [first, second, off] = await Promise.all([
            fetchGeometry(one.url + much, signal),
            fetchGeometry(other.url + much, signal),
            fetchGeometry(one.off(b) + much, signal),
          ])
          const { compare } = viewer
          return { parts: [await compare.left.parse(first), await compare.right.parse(second)], off }
        },
        ({ parts, off }) => {
          viewer.compare.left.show(parts[0])
          viewer.compare.right.show(parts[1])
          values = unpack(off).arrays.figures as Float32Array
          apart.value = apartOf(values)
          show()
        },
        ({ parts }) => parts.forEach((side) => viewer.compare.left.drop(side)),
      )
      .catch((e) => {
        of = ''
        fault.value = e instanceof Error ? e.message : String(e)
      })
    loading.value = false
  }
  function show() {
    const viewer = view.viewer.value
    if (!viewer) return
    viewer.compare.how = how.value
    viewer.compare.at = curtain.value
    const coloured = how.value === 'apart' && apart.value
    viewer.compare.left.figures(coloured ? values : null, { range: apart.value?.most ?? 1, thin: false })
    viewer.style({ comparing: how.value != null && of !== '' })
  }
  function stop() {
    asked.stop()
    how.value = null
    of = ''
    values = null
    apart.value = null
    loading.value = false
    whole.value = false
    show()
    view.viewer.value?.compare.clear()
  }
  watch([left, right, how, whole], () => {
    show()
    void load()
  })
  watch(curtain, show)
  // Takes that are put away, or others that come, end what was compared.
  watch(view.snapshot, stop)

  /** Compare two takes; without names the one in use with the one before it. */
  function begin(with_: CompareHow = 'sides') {
    ofBranches.value = false
    const names = takes.value.map((t) => t.name)
    if (names.length < 2) return
    const used = bench.bench.value?.of_take ?? names[names.length - 1]
    if (!names.includes(left.value)) left.value = used
    if (!names.includes(right.value) || right.value === left.value)
      right.value = names.filter((name) => name !== left.value).pop()!
    how.value = with_
  }
  /** Compare the branch that is worked on with another one; again ends it. */
  function beginBranches(name: string) {
    const current = branches.value.find((b) => b.current)
    const same = how.value && ofBranches.value && right.value === name
    stop()
    if (same || !current) return
    ofBranches.value = true
    left.value = current.name
    right.value = name
    how.value = 'sides'
  }
  return {
    takes,
    sides,
    whole,
    large,
    beginBranches,
    left,
    right,
    how,
    curtain,
    loading,
    fault,
    apart,
    begin,
    stop,
  }
}

export function apartOf(values: Float32Array): Apart {
  const most = Math.max(usualMost(values), 1e-6)
  const bins = new Array<number>(BINS).fill(0)
  let total = 0
  for (const value of values) {
    const away = Math.abs(value)
    total += away
    bins[Math.min(Math.floor((away / most) * (BINS - 1)), BINS - 1)] += 1 / values.length
  }
  return { bins, most, mean: total / Math.max(values.length, 1) }
}
