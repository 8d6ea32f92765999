<script setup lang="ts">
import { computed } from 'vue'
import { useBenchContext } from '@/bench/context'
import { takesPart } from '@/bench/stages/fuse/takes'
import type { CompareHow } from '@/bench/viewer/layers/Compare'

/** What two takes are and how they are seen together. */
const context = useBenchContext()
const { takes, left, right, how, curtain, loading, fault, apart, stop } = context.part('takes', takesPart)
const HOWS: { name: CompareHow; title: string }[] = [
  { name: 'sides', title: 'Side by side' },
  { name: 'curtain', title: 'Curtain' },
  { name: 'apart', title: 'Apart' },
]
const highest = computed(() => Math.max(...(apart.value?.bins ?? [1])))
function hang(e: PointerEvent) {
  const bar = e.currentTarget as HTMLElement
  const box = bar.parentElement!.getBoundingClientRect()
  bar.setPointerCapture(e.pointerId)
  bar.onpointermove = (m) => (curtain.value = Math.min(Math.max((m.clientX - box.left) / box.width, 0), 1))
  bar.onpointerup = () => (bar.onpointermove = null)
}
function nudge(e: KeyboardEvent) {
  const way = { ArrowLeft: -1, ArrowRight: 1 }[e.key]
  if (!way) return
  e.preventDefault()
  e.stopPropagation()
  curtain.value = Math.min(Math.max(curtain.value + way * (e.shiftKey ? 0.1 : 0.02), 0), 1)
}
</script>

<template>
  <template v-if="how">
    <div
      v-if="how === 'curtain'"
      class="curtain"
      role="slider"
      tabindex="0"
      aria-label="Curtain between the takes"
      :aria-valuenow="Math.round(curtain * 100)"
      aria-valuemin="0"
      aria-valuemax="100"
      data-test="curtain"
      :style="{ left: `${curtain * 100}%` }"
      @pointerdown="hang"
      @keydown="nudge"
    />
    <div v-else-if="how === 'sides'" class="curtain fixed" />
    <template v-if="how !== 'apart'">
      <b class="name" :style="{ right: how === 'sides' ? '51%' : `${101 - curtain * 100}%` }">{{ left }}</b>
      <b class="name" :style="{ left: how === 'sides' ? '51%' : `${curtain * 100 + 1}%` }">{{ right }}</b>
    </template>
    <section class="afloat-card" data-test="comparing" aria-label="Takes compared">
      <header>
        <select v-model="left" aria-label="Left take" data-test="left-take">
          <option v-for="t in takes" :key="t.name" :disabled="t.name === right">{{ t.name }}</option>
        </select>
        <select v-model="right" aria-label="Right take" data-test="right-take">
          <option v-for="t in takes" :key="t.name" :disabled="t.name === left">{{ t.name }}</option>
        </select>
        <button type="button" class="link stop" aria-label="Stop comparing" @click="stop">×</button>
      </header>
      <div class="hows" role="group" aria-label="How they are seen">
        <button
          v-for="h in HOWS"
          :key="h.name"
          type="button"
          class="plain-button"
          :aria-pressed="how === h.name"
          :data-test="`how-${h.name}`"
          @click="how = h.name"
        >
          {{ h.title }}
        </button>
      </div>
      <p v-if="fault" class="quiet" role="status">{{ fault }}</p>
      <p v-else-if="loading" class="quiet" role="status">Fetching both takes…</p>
      <div v-else-if="apart" role="status" data-test="apart">
        <p class="num">
          {{ left }} off {{ right }}: {{ apart.mean.toFixed(3) }}&#8201;mm in the mean, 95&#8201;% within
          {{ apart.most.toFixed(3) }}&#8201;mm
        </p>
        <div v-if="how === 'apart'" class="bins" aria-hidden="true">
          <i v-for="(share, n) in apart.bins" :key="n" :style="{ height: `${(share / highest) * 34}px` }" />
        </div>
        <p v-if="how === 'apart'" class="scale num quiet">
          <span>0</span><span>striped: inside</span><span>{{ apart.most.toFixed(2) }}&#8201;mm</span>
        </p>
      </div>
    </section>
  </template>
</template>

<style scoped>
.curtain {
  position: absolute;
  top: 44px;
  bottom: 0;
  width: 24px;
  margin-left: -12px;
  cursor: ew-resize;
  touch-action: none;
  background: linear-gradient(90deg, transparent 11px, var(--ink) 11px, var(--ink) 13px, transparent 13px);
}
.curtain.fixed {
  left: 50%;
  pointer-events: none;
}
.name {
  position: absolute;
  top: 52px;
  padding: 1px 6px;
  background: var(--sheet);
  border-radius: var(--radius);
  font-size: 13px;
  pointer-events: none;
}
header {
  gap: 4px;
}
header select {
  flex: 1;
  min-width: 0;
  background: var(--sheet);
  color: var(--ink);
  border: var(--hair);
  border-radius: var(--radius);
}
.stop {
  width: 24px;
  height: 24px;
  font-size: 16px;
}
.num {
  white-space: normal;
  text-align: left;
}
.hows {
  display: flex;
  gap: 4px;
}
.hows button {
  flex: 1;
  padding: 3px 4px;
  font-size: 12px;
  white-space: nowrap;
}
.hows button[aria-pressed='true'] {
  background: var(--ink);
  color: var(--sheet);
}
.bins {
  display: flex;
  align-items: flex-end;
  gap: 1px;
  height: 36px;
}
.bins i {
  flex: 1;
  min-height: 1px;
  background: var(--ochre-ink);
}
.scale {
  display: flex;
  justify-content: space-between;
}
p {
  margin: 4px 0 0;
}
</style>
