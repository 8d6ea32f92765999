<script setup lang="ts">
import { computed } from 'vue'
import MarkedActs from '@/components/MarkedActs.vue'
import { useRange } from '@/composables/useRange'

/** The track of a pass by hand: a range of its frames is marked by dragging or with the keys, then something is done with it. */
const props = defineProps<{
  frames: number
  /** First and last frame of every run that is held. */
  runs: [number, number][]
  /** Frames that somebody took out. */
  out: [number, number][]
  hue: string
}>()
const emit = defineEmits<{ back: [number]; drop: [number, number]; bring: [number, number] }>()

const { range, words, begin, extend, press, leave } = useRange(
  () => props.frames,
  () => act('drop'),
)
const holdsOut = computed(
  () => !!range.value && props.out.some(([a, b]) => a <= range.value![1] && b >= range.value![0]),
)
/** Where a frame stands along the track, in hundredths. */
const along = (frame: number) => (100 * frame) / Math.max(props.frames, 1)
const span = (first: number, last: number) => ({
  left: `${along(first)}%`,
  width: `${Math.max(along(last + 1) - along(first), 0.4)}%`,
})
function act(what: 'back' | 'drop' | 'bring') {
  if (!range.value) return
  const [first, last] = range.value
  if (what === 'back') emit('back', first)
  else if (what === 'drop') emit('drop', first, last)
  else emit('bring', first, last)
  leave()
}
</script>

<template>
  <span class="hand-track">
    <span
      class="runs"
      role="slider"
      tabindex="0"
      aria-label="Track of the pass: drag, or arrows with Shift, to mark frames"
      aria-valuemin="1"
      :aria-valuemax="Math.max(frames, 1)"
      :aria-valuenow="range ? range[1] + 1 : Math.max(frames, 1)"
      :aria-valuetext="words || 'nothing marked'"
      title="Drag to mark frames; gaps are frames that were lost"
      data-test="hand-track"
      @pointerdown="begin"
      @pointermove="extend"
      @keydown="press"
    >
      <i v-for="[first, last] in runs" :key="first" :style="{ ...span(first, last), '--hue': hue }" />
      <i
        v-for="[first, last] in out"
        :key="`out ${first}`"
        class="out"
        :style="{ ...span(first, last), '--hue': hue }"
      />
      <i v-if="range" class="mark" :style="span(range[0], range[1])" />
    </span>
    <MarkedActs v-if="range" :words="words" data-test="track-acts" @unmark="leave">
      <button class="link" data-test="track-back" @click="act('back')">Step back to here</button>
      <button class="link" data-test="track-drop" @click="act('drop')">
        Take out <kbd class="key">Del</kbd>
      </button>
      <button v-if="holdsOut" class="link" data-test="track-bring" @click="act('bring')">Bring back</button>
    </MarkedActs>
  </span>
</template>

<style scoped>
.hand-track {
  display: flex;
  align-items: center;
  gap: 12px;
  min-width: 0;
}
.runs {
  position: relative;
  flex: 1;
  height: 26px;
  border-bottom: var(--hair);
  cursor: text;
  touch-action: none;
}
.runs i {
  position: absolute;
  top: 5px;
  bottom: 0;
  background: var(--hue);
  opacity: 0.88;
  pointer-events: none;
}
.runs .out {
  background: none;
  border: 1px dashed var(--hue);
}
.runs .mark {
  top: 0;
  bottom: -2px;
  background: none;
  border: 2px solid var(--ink);
  border-radius: 2px;
  opacity: 1;
}
</style>
