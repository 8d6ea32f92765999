import { onBeforeUnmount, ref, shallowRef, watch, type Ref } from 'vue'
import { LiveLink, type LinkState, type Preview } from '@/api/live'

/** Previews of operations on the snapshot that is shown. */
export function useLive(objectId: string, snapshot: Ref<string | null>) {
  const state = ref<LinkState>('connecting')
  const preview = shallowRef<Preview | null>(null)
  const refused = ref('')
  let wished: { operation: string; parameters: Record<string, unknown> } | null = null

  const scheme = location.protocol === 'https:' ? 'wss' : 'ws'
  const link = new LiveLink(`${scheme}://${location.host}/ws/objects/${objectId}`, {
    state: (s) => (state.value = s),
    preview: (p) => {
      refused.value = ''
      preview.value = p
    },
    refused: (sentence) => {
      refused.value = sentence
      preview.value = null
    },
  })
  onBeforeUnmount(() => link.close())

  function ask() {
    link.preview(wished && snapshot.value ? { snapshot: snapshot.value, ...wished } : null)
  }
  watch(
    snapshot,
    (now) => {
      preview.value = null
      link.open(now)
      ask()
    },
    { immediate: true },
  )
  /** Show what an operation would do with these parameters; again with others replaces it. */
  function show(operation: string, parameters: Record<string, unknown>) {
    wished = { operation, parameters }
    ask()
  }
  /** Show no preview any more. */
  function hide() {
    wished = null
    preview.value = null
    refused.value = ''
    ask()
  }
  return { state, preview, refused, show, hide }
}
