<script setup lang="ts">
import { computed } from 'vue'
import type { PassFigures } from '@/api/client'
import FrameTicks from '@/components/FrameTicks.vue'
import HandTrack from '@/components/HandTrack.vue'
import { count, mm, percent, THIN } from '@/composables/format'

/** A pass that is being captured now. */
export interface LivePass {
  title: string
  frames: number
  planned: number
  /** Of a pass by hand, without a plan: first and last frame of every run that is held. */
  runs?: [number, number][]
  /** And of every run that was taken out. */
  out?: [number, number][]
}
const props = defineProps<{
  passes: PassFigures[]
  live: LivePass | null
  hidden: boolean[]
  /** Nothing can be changed just now, or by this person. */
  fixed?: boolean
}>()
const emit = defineEmits<{
  toggle: [number]
  frame: [number, number]
  back: [number]
  drop: [number, number]
  bring: [number, number]
  leave: [number, number, number]
  take: [number, number, number]
}>()

const typical = computed(() => {
  const fits = props.passes
    .flatMap((p) => p.fit_mm.filter((f): f is number => f != null))
    .sort((a, b) => a - b)
  return fits.length ? fits[Math.floor(fits.length / 2)] : null
})
const framesIn = computed(() => props.passes.reduce((t, p) => t + p.frames_in.filter(Boolean).length, 0))
const frames = computed(() => props.passes.reduce((t, p) => t + p.frames, 0))
const points = computed(() => props.passes.reduce((t, p) => t + (p.points?.count ?? 0), 0))
const sum = computed(() => {
  if (!props.passes.length) return 'none yet'
  const parts = [
    frames.value ? `${framesIn.value} of ${frames.value} frames in` : '',
    points.value ? `${count(points.value)} points` : '',
  ]
  return parts.filter(Boolean).join(' · ')
})
/** Where the normals of a pass of points are from. */
const NORMALS: Record<string, string> = {
  file: 'normals of the file',
  faces: 'normals of its faces',
  scanner: 'normals towards the scanner',
  spread: 'normals made, side guessed',
}
/** How a pass stands to the others. */
function stands(pass: PassFigures): string {
  if (pass.off) return 'switched off'
  if (!pass.placed) return 'not aligned'
  return pass.posed ? 'placed' : 'as captured'
}
/** What a pass of points is, in words. */
function words(pass: PassFigures): string {
  const p = pass.points!
  const kept = pass.kept_share ? `${percent(Math.min(pass.kept_share[0], 1), 0)} kept` : ''
  const unit = `${p.unit}${p.unit_from === 'size' ? ', guessed' : ''}`
  return [
    `${p.size_mm.toFixed(1)}${THIN}mm across (${unit})`,
    `${p.spacing_mm.toPrecision(2)}${THIN}mm apart`,
    NORMALS[p.normals_from] ?? '',
    p.coloured ? 'in colour' : '',
    kept,
  ]
    .filter(Boolean)
    .join(' · ')
}
</script>

<template>
  <section class="tracks" aria-label="Pass tracks" tabindex="0">
    <header>
      <h2>Passes</h2>
      <span class="quiet">{{ sum }}</span>
      <span v-if="frames" class="quiet legend"
        >bar height: points kept · ochre: fits badly · hollow: left out</span
      >
    </header>
    <div v-for="(pass, n) in passes" :key="pass.capture" class="track">
      <button
        class="swatch"
        :class="{ off: hidden[n] || pass.off }"
        :style="{ '--hue': `var(--pass-${(n % 6) + 1})` }"
        :aria-pressed="!hidden[n]"
        :title="hidden[n] ? `Show “${pass.title}”` : `Hide “${pass.title}”`"
        :aria-label="`Show “${pass.title}”`"
        @click="emit('toggle', n)"
      />
      <span class="name"
        ><b>{{ pass.title }}</b
        ><small
          >{{ pass.points ? `${count(pass.points.count)} points` : `${pass.frames} frames` }} ·
          {{ stands(pass) }}</small
        ></span
      >
      <span v-if="pass.points" class="came quiet" :title="words(pass)">{{ words(pass) }}</span>
      <FrameTicks
        v-else
        :pass="pass"
        :hue="`var(--pass-${(n % 6) + 1})`"
        :typical="typical"
        :fixed="fixed"
        @frame="(frame) => emit('frame', n, frame)"
        @leave="(first, last) => emit('leave', n, first, last)"
        @take="(first, last) => emit('take', n, first, last)"
      />
      <span v-if="pass.points" class="num">± {{ mm(pass.noise_mm, 3) }}</span>
      <span v-else class="num">{{ pass.rms_mm == null ? 'fit not known' : mm(pass.rms_mm, 3) }}</span>
    </div>
    <div v-if="live" class="track" data-test="live-track">
      <span class="swatch" :style="{ '--hue': `var(--pass-${(passes.length % 6) + 1})` }" />
      <span class="name"
        ><b>{{ live.title }}</b
        ><small>capturing</small></span
      >
      <HandTrack
        v-if="live.runs"
        :frames="live.frames"
        :runs="live.runs"
        :out="live.out ?? []"
        :hue="`var(--pass-${(passes.length % 6) + 1})`"
        @back="(frame) => emit('back', frame)"
        @drop="(first, last) => emit('drop', first, last)"
        @bring="(first, last) => emit('bring', first, last)"
      />
      <span v-else class="ticks">
        <i
          v-for="f in live.planned"
          :key="f"
          :class="{ waiting: f > live.frames }"
          :style="{ height: '62%', '--hue': `var(--pass-${(passes.length % 6) + 1})` }"
        />
      </span>
      <span class="num">{{ live.runs ? `${live.frames} frames` : `${live.frames} / ${live.planned}` }}</span>
    </div>
    <p v-if="!passes.length && !live" class="quiet none">
      Capture a pass on the turntable or bring in scans: each pass will stand here, its frames one tick each.
    </p>
  </section>
</template>

<style scoped>
.tracks {
  background: var(--sheet);
  border-top: var(--hair);
  padding: 8px 14px 10px;
  overflow: auto;
}
header {
  display: flex;
  gap: 14px;
  align-items: baseline;
  font-size: 12px;
  margin-bottom: 4px;
}
h2 {
  font-size: 14px;
}
.legend {
  margin-left: auto;
}
.track {
  display: grid;
  grid-template-columns: 20px 132px 1fr 96px;
  gap: 12px;
  align-items: center;
  height: 34px;
}
.swatch {
  width: 20px;
  height: 22px;
  border-radius: 2px;
  border: 2px solid var(--hue);
  background: var(--hue);
  padding: 0;
  cursor: pointer;
}
.swatch.off {
  background: none;
}
.name b {
  font-weight: 500;
  display: block;
  line-height: 1.1;
  white-space: nowrap;
  overflow: hidden;
  text-overflow: ellipsis;
}
small {
  color: var(--ink-2);
  font-size: 11.5px;
  white-space: nowrap;
}
.ticks {
  display: flex;
  gap: 2px;
  align-items: flex-end;
  height: 26px;
  overflow: hidden;
}
.ticks i {
  flex: 1;
  max-width: 24px;
  min-width: 1px;
  background: var(--hue);
  border-radius: 1px 1px 0 0;
  opacity: 0.88;
}
.ticks i.waiting {
  background: none;
  border: 1px dashed var(--hue);
}
.came {
  font-size: 12.5px;
  overflow: hidden;
  text-overflow: ellipsis;
  white-space: nowrap;
}
.none {
  padding: 14px 0;
}
</style>
