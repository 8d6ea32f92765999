import { onBeforeUnmount, ref, shallowRef, watch, type Ref } from 'vue'
import {
  LiveLink,
  type CoverageWish,
  type LinkState,
  type Preview,
  type SetUp,
  type Steering,
} from '@/api/live'

/** Previews of operations on the snapshot that is shown, and what the head sees before a pass. */
export function useLive(objectId: string, snapshot: Ref<string | null>) {
  const state = ref<LinkState>('connecting')
  const preview = shallowRef<Preview | null>(null)
  const refused = ref('')
  const sight = shallowRef<Preview | null>(null)
  const sightRefused = ref('')
  const coverage = shallowRef<Preview | null>(null)
  const coverageRefused = ref('')
  /** What there is to see of the pass by hand that is followed; the model comes along when it is a newer one. */
  const hand = shallowRef<Preview | null>(null)
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
    sight: (seen) => {
      sightRefused.value = ''
      sight.value = seen
    },
    sightRefused: (sentence) => {
      sightRefused.value = sentence
      sight.value = null
    },
    coverage: (covered) => {
      coverageRefused.value = ''
      coverage.value = covered
    },
    coverageRefused: (sentence) => {
      coverageRefused.value = sentence
      coverage.value = null
    },
    hand: (seen) => (hand.value = seen),
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
    if (wished?.operation !== operation) {
      preview.value = null
      refused.value = ''
    }
    wished = { operation, parameters }
    ask()
  }
  /** Show no preview any more; of an operation, when no other one is shown by now. */
  function hide(operation?: string) {
    if (operation && wished?.operation !== operation) return
    wished = null
    preview.value = null
    refused.value = ''
    ask()
  }
  /** See what the head sees with a set-up; with null the head is put away. */
  function look(setUp: SetUp | null) {
    if (!setUp) {
      sight.value = null
      sightRefused.value = ''
    }
    link.sight(setUp)
  }
  /** Know how well the object was seen; with null what is known is put away. */
  function cover(wish: CoverageWish | null) {
    if (!wish) {
      coverage.value = null
      coverageRefused.value = ''
    }
    link.coverage(wish)
  }
  /** Follow a pass by hand; with null what is known of it is put away. */
  function follow(capture: string | null) {
    if (!capture) hand.value = null
    link.follow(capture)
  }
  const steer = (how: Steering) => link.steer(how)
  const drawPlainly = (plainly: boolean) => link.drawPlainly(plainly)
  return {
    state,
    preview,
    refused,
    show,
    hide,
    sight,
    sightRefused,
    look,
    coverage,
    coverageRefused,
    cover,
    hand,
    follow,
    steer,
    drawPlainly,
  }
}
