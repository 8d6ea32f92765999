import * as THREE from 'three'
import { ref, shallowRef, watch } from 'vue'
import { fetchGeometry, LatestOnly } from '@/api/geometry'
import type { BenchContext } from '@/bench/context'
import type { Sight } from '@/bench/viewer/layers/Layer'
import { unpack } from '@/lib/packed'
import { hueOf, token } from '@/lib/tokens'

export type Photograph = [title: string, frame: number]
export type Layout = 'photographs' | 'borders' | 'unseen'
interface Told {
  side: number
  photographs: Photograph[]
  photo: Uint16Array
  unseen: Uint8Array
}

/** Which photograph is laid where, as a picture over the surface. */
export function photographsOf({ bench, view }: BenchContext) {
  const shown = ref<Layout | null>(null)
  const loading = ref(false)
  const fault = ref('')
  const picked = shallowRef<Photograph | null>(null)
  const told = shallowRef<Told | null>(null)
  const without = ref<Photograph[]>([])
  const asked = new LatestOnly()

  async function load(): Promise<Told | null> {
    if (told.value) return told.value
    loading.value = true
    fault.value = ''
    await asked
      .run(
        (signal) => fetchGeometry(`/api/snapshots/${view.snapshot.value}/photographs`, signal),
        (answer) => {
          const { head, arrays } = unpack<{ side: number; photographs: Photograph[] }>(answer)
          told.value = { ...head, photo: arrays.photo as Uint16Array, unseen: arrays.unseen as Uint8Array }
        },
      )
      .catch((e) => (fault.value = e instanceof Error ? e.message : String(e)))
    loading.value = false
    return told.value
  }
  async function show(layout: Layout | null) {
    shown.value = layout
    const viewer = view.viewer.value
    if (!viewer) return
    const found = layout && (await load())
    if (shown.value !== layout) return
    if (!found) shown.value = null
    const titles = (bench.bench.value?.passes ?? []).map((p) => p.title)
    viewer.surface.lay(found ? pictureOf(found, layout!, titles) : null)
    if (found) view.mode.value = 'colour'
    viewer.style()
  }
  /** Name the photograph that a ray meets the surface in. */
  function pick(sight: Sight) {
    const at = view.viewer.value?.surface.texelAt(sight)
    const found = told.value
    if (!at || !found) return
    const [x, y] = at.map((share) => Math.min(Math.floor(share * found.side), found.side - 1))
    picked.value = found.photographs[found.photo[y * found.side + x] - 1] ?? null
  }
  /** Leave a photograph out of the next laying, or take it back. */
  function turn(photograph: Photograph) {
    const rest = without.value.filter((p) => p.join() !== photograph.join())
    without.value = rest.length < without.value.length ? rest : [...rest, photograph]
  }
  // Another surface, or the same one laid anew, is of other photographs.
  watch(view.snapshot, () => {
    asked.stop()
    told.value = null
    picked.value = null
    if (shown.value) void show(null)
  })
  return { shown, loading, fault, picked, without, show, pick, turn }
}
export const photographsPart = (context: BenchContext) => context.part('photographs', photographsOf)

const STEPS = 5 // lightnesses that neighbouring frames of a pass are told apart by

/** What the server told as a picture of the size of the texture: hues of passes with borders, or what nothing saw. */
export function pictureOf(told: Told, layout: Layout, titles: string[]): THREE.DataTexture {
  const { side, photo, unseen, photographs } = told
  const colours = layout === 'photographs' ? photographs.map((p) => shadeOf(p, titles)) : []
  const [seen, never, ink] = ['#f1ead8', '#b3650c', token('ink') || '#1d2b3a'].map((c) =>
    bytesOf(new THREE.Color(c)),
  )
  const data = new Uint8Array(4 * side * side)
  for (let n = 0; n < side * side; n++) {
    const own = photo[n]
    let colour = seen
    if (layout === 'unseen') colour = unseen[n] ? never : seen
    else if (layout === 'photographs') colour = own ? colours[own - 1] : seen
    else if (own && [n + 1, n + side].some((k) => photo[k] && photo[k] !== own)) colour = ink
    data.set([...colour, 255], 4 * n)
  }
  const picture = new THREE.DataTexture(data, side, side)
  picture.colorSpace = THREE.SRGBColorSpace
  picture.magFilter = THREE.NearestFilter
  picture.needsUpdate = true
  return picture
}

function shadeOf([title, frame]: Photograph, titles: string[]): number[] {
  const colour = new THREE.Color(hueOf(Math.max(titles.indexOf(title), 0)) || '#2f6f9f')
  return bytesOf(colour.lerp(new THREE.Color('#ffffff'), 0.12 * (frame % STEPS)))
}
const bytesOf = (colour: THREE.Color) => {
  const hex = colour.getHex(THREE.SRGBColorSpace)
  return [hex >> 16, (hex >> 8) & 255, hex & 255]
}
