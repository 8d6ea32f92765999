<script setup lang="ts">
import { computed } from 'vue'
import { useBenchContext } from '@/bench/context'
import { handPart } from '@/bench/stages/capture/hand/hand'
import { suggestions } from '@/bench/stages/capture/sheetHandle'
import { percent } from '@/composables/format'

interface Figures {
  seen_enough: number
  thin_cm2: number
  never_cm2: number
  whole: boolean
  times: number
  sides: number
}
const context = useBenchContext()
const { view, live, bench } = context
const hand = context.part('hand', handPart)
const { nexts, setUp } = suggestions(context)
const figures = computed(() => live.coverage.value?.figures as unknown as Figures | undefined)
const words = computed(() => {
  if (live.coverageRefused.value) return live.coverageRefused.value
  if (!bench.bench.value?.passes.length && !view.liveUrl.value) return 'There is no pass yet.'
  return 'Working out what was seen…'
})
const need = computed(
  () =>
    `enough: ${figures.value?.times} times${(figures.value?.sides ?? 0) > 1 ? `, ${figures.value?.sides} sides` : ''}, squarely once`,
)
</script>

<template>
  <section v-if="view.mode.value === 'coverage'" class="afloat-card" data-test="coverage">
    <template v-if="hand.on.value">
      <header>
        <b>Coverage</b>
        <span
          >enough so far <b class="num">{{ percent(hand.figures.value?.enough ?? 0, 0) }}</b></span
        >
      </header>
      <div class="scale" aria-hidden="true" />
      <div class="ends"><span>one glance</span><span>enough</span></div>
    </template>
    <p v-else-if="!figures" role="status">{{ words }}</p>
    <template v-else>
      <header>
        <b>Coverage</b>
        <span data-test="seen-enough"
          >{{ figures.whole ? 'seen enough' : 'enough so far' }}
          <b class="num">{{ percent(figures.seen_enough, 0) }}</b></span
        >
      </header>
      <div class="scale" aria-hidden="true" />
      <div class="ends"><span>one glance</span><span>enough</span></div>
      <p class="quiet">{{ need }}</p>
      <template v-if="figures.whole">
        <dl class="figures">
          <dt>Thin</dt>
          <dd class="num">{{ figures.thin_cm2.toFixed(1) }} cm²</dd>
          <dt>Never seen</dt>
          <dd class="num">{{ figures.never_cm2.toFixed(1) }} cm²</dd>
        </dl>
        <p v-for="(n, at) in nexts.slice(0, 2)" :key="n.words" data-test="next-pass">
          {{ at ? 'or' : 'Next:' }} {{ n.words }} <b class="num">+ {{ percent(n.gain, 0) }}</b
          ><span class="quiet">, {{ percent(n.common, 0) }} in common</span
          ><template v-if="!bench.lookOnly.value"
            >{{ ' ' }}
            <button class="link" :data-test="`set-up-next-${at}`" @click="setUp(n)">Set it up</button>
            <kbd v-if="!at" class="key">Alt+P</kbd></template
          >
        </p>
      </template>
    </template>
  </section>
</template>

<style scoped>
.ends {
  display: flex;
  justify-content: space-between;
}
.scale {
  height: 8px;
  border-radius: 2px;
  background: linear-gradient(90deg, var(--cov-0), var(--cov-1), var(--cov-2), var(--cov-3), var(--cov-4));
}
.ends {
  color: var(--ink-2);
  font-size: 11.5px;
}
</style>
