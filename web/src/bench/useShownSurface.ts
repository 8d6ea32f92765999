import { onBeforeUnmount, type Ref } from 'vue'
import { fetchGeometry, LatestOnly } from '@/api/geometry'
import type { BenchContext } from '@/bench/context'

/** How long one looks at a surface that came at a glance before the whole of it is fetched. */
export const STAY_MS = 1200
/** Triangles that come of themselves: more make every movement wait where the processor draws, and come when asked for. */
export const MOST_AT_ONCE = 400_000

/**
 * Keeps the surface in the view the one that is wanted; late answers never replace newer ones. Of a large one that is
 * looked back at, fewer triangles come first: who stays gets all of it unless there are very many, who goes on to
 * another step does not wait for it.
 */
export function useShownSurface(
  { bench, view }: Pick<BenchContext, 'bench' | 'view'>,
  host: Ref<HTMLElement | undefined>,
  guarded: (work: () => Promise<unknown>) => Promise<void>,
  changed: () => void,
) {
  const latest = new LatestOnly()
  let stay: ReturnType<typeof setTimeout> | undefined
  let shown: string | null = null

  function set(url: string | null, glancing: boolean) {
    shown = url
    view.glancing.value = glancing
    if (host.value && url) host.value.dataset.mesh = url
    else host.value?.removeAttribute('data-mesh')
    changed()
  }
  function fetched(url: string, glancing: boolean) {
    const { surface } = view.viewer.value!
    return guarded(() =>
      latest.run(
        async (signal) => surface.parse(await fetchGeometry(url, signal)),
        (parts) => {
          surface.show(parts)
          set(url, glancing)
        },
        (parts) => surface.drop(parts),
      ),
    )
  }
  async function sync() {
    clearTimeout(stay)
    latest.stop()
    const [whole, glance] = [view.meshUrl.value, view.glanceUrl.value]
    const few = (bench.bench.value?.mesh?.triangles ?? 0) <= MOST_AT_ONCE
    if (!whole) {
      view.viewer.value!.surface.clear()
      return set(null, false)
    }
    if (shown === whole) return
    if (!glance) return fetched(whole, false)
    await fetched(glance, true)
    if (few && shown === glance && view.glanceUrl.value === glance)
      stay = setTimeout(() => (view.whole.value = true), STAY_MS)
  }
  function stop() {
    clearTimeout(stay)
    latest.stop()
  }
  onBeforeUnmount(stop)
  return { sync }
}
