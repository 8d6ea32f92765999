<script setup lang="ts">
import { computed } from 'vue'
import { useBenchContext } from '@/bench/context'
import { takesPart } from '@/bench/stages/fuse/takes'
import CurtainBar from '@/components/CurtainBar.vue'
import type { CompareHow } from '@/bench/viewer/layers/Compare'

/** What two takes are and how they are seen together. */
const context = useBenchContext()
const { sides, whole, large, left, right, how, curtain, loading, fault, apart, stop } = context.part(
  'takes',
  takesPart,
)
const HOWS: { name: CompareHow; title: string }[] = [
  { name: 'sides', title: 'Side by side' },
  { name: 'curtain', title: 'Curtain' },
  { name: 'apart', title: 'Apart' },
]
const highest = computed(() => Math.max(...(apart.value?.bins ?? [1])))
</script>

<template>
  <template v-if="how">
    <CurtainBar
      v-if="how === 'curtain'"
      v-model="curtain"
      label="Curtain between the takes"
      :left="left"
      :right="right"
    />
    <div v-else-if="how === 'sides'" class="divide" />
    <template v-if="how === 'sides'">
      <b class="name" style="right: 51%">{{ left }}</b>
      <b class="name" style="left: 51%">{{ right }}</b>
    </template>
    <section class="afloat-card" data-test="comparing" aria-label="Takes compared">
      <header>
        <select v-model="left" aria-label="Left take" data-test="left-take">
          <option v-for="t in sides" :key="t.name" :disabled="t.name === right">{{ t.name }}</option>
        </select>
        <select v-model="right" aria-label="Right take" data-test="right-take">
          <option v-for="t in sides" :key="t.name" :disabled="t.name === left">{{ t.name }}</option>
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
        <p v-if="large" class="quiet" data-test="at-a-glance">
          <template v-if="whole">Up to 700&#8201;k triangles of each are shown.</template>
          <template v-else
            >Fewer triangles are shown, so that they turn with the hand.
            <button type="button" class="link" data-test="show-whole" @click="whole = true">Show more</button>
          </template>
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
.divide {
  position: absolute;
  top: 44px;
  bottom: 0;
  left: 50%;
  width: 2px;
  margin-left: -1px;
  background: var(--ink);
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
