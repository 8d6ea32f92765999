<script setup lang="ts">
import { computed } from 'vue'
import type { PassFigures } from '@/api/client'
import { mm } from '@/composables/format'
import MarkedActs from '@/components/MarkedActs.vue'
import { useRange } from '@/composables/useRange'

/** The frames of a pass, a tick each; a range of them is marked by dragging or with the keys, left out or taken back. */
/** Pixels that a tick takes at the most. */
const WIDEST = 26
const props = defineProps<{ pass: PassFigures; hue: string; typical: number | null; fixed: boolean }>()
const emit = defineEmits<{ frame: [number]; leave: [number, number]; take: [number, number] }>()

const { range, words, begin, extend, press, leave } = useRange(
  () => props.pass.frames,
  () => act('leave'),
)
const some = computed(() =>
  range.value ? props.pass.frames_in.slice(range.value[0], range.value[1] + 1) : [],
)
function height(n: number): number {
  const shares = props.pass.kept_share
  if (!shares) return 62
  return 28 + (72 * shares[n]) / Math.max(...shares, 1e-9)
}
function bad(n: number): boolean {
  const fit = props.pass.fit_mm[n]
  return props.typical != null && fit != null && fit > 1.8 * props.typical
}
function title(n: number): string {
  const fit = props.pass.fit_mm[n]
  return `Frame ${n + 1}${props.pass.frames_in[n] ? '' : ', left out'}${fit == null ? '' : `, residual ${mm(fit, 3)}`}`
}
function mark(e: PointerEvent) {
  begin(e)
  if (range.value) emit('frame', range.value[0])
}
function act(what: 'leave' | 'take') {
  if (!range.value || props.fixed) return
  if (what === 'leave') emit('leave', ...range.value)
  else emit('take', ...range.value)
  leave()
}
</script>

<template>
  <span class="frames">
    <span
      class="ticks"
      role="slider"
      tabindex="0"
      :aria-label="`Frames of “${pass.title}”: drag, or arrows with Shift, to mark some`"
      aria-valuemin="1"
      :aria-valuemax="pass.frames"
      :aria-valuenow="range ? range[1] + 1 : pass.frames"
      :aria-valuetext="words || 'nothing marked'"
      :style="{ width: `${WIDEST * pass.frames}px` }"
      data-test="frame-ticks"
      @pointerdown="mark"
      @pointermove="extend"
      @keydown="press"
    >
      <i
        v-for="f in pass.frames"
        :key="f"
        :class="{
          out: !pass.frames_in[f - 1],
          bad: bad(f - 1),
          marked: range && f - 1 >= range[0] && f - 1 <= range[1],
        }"
        :style="{ height: `${height(f - 1)}%`, '--hue': hue }"
        :title="title(f - 1)"
      />
    </span>
    <MarkedActs v-if="range" :words="words" data-test="frame-acts" @unmark="leave">
      <button
        v-if="some.includes(true)"
        class="link"
        :disabled="fixed"
        data-test="leave-out"
        @click="act('leave')"
      >
        Leave out <kbd class="key">Del</kbd>
      </button>
      <button
        v-if="some.includes(false)"
        class="link"
        :disabled="fixed"
        data-test="take-back"
        @click="act('take')"
      >
        Take back
      </button>
    </MarkedActs>
  </span>
</template>

<style scoped>
.frames {
  display: flex;
  align-items: center;
  gap: 12px;
  min-width: 0;
}
.ticks {
  display: flex;
  max-width: 100%;
  min-width: 0;
  gap: 2px;
  align-items: flex-end;
  height: 26px;
  overflow: hidden;
  cursor: text;
  touch-action: none;
}
.ticks i {
  flex: 1;
  min-width: 1px;
  background: var(--hue);
  border-radius: 1px 1px 0 0;
  opacity: 0.88;
}
.ticks i.bad {
  background: var(--ochre);
}
.ticks i.out {
  background: none;
  border: 1px dashed var(--hue);
}
.ticks i.marked {
  background: var(--ink);
  border-color: var(--ink);
  opacity: 1;
}
</style>
