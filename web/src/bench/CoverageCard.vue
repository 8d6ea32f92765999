<script setup lang="ts">
import { computed } from 'vue'
import { useBenchContext } from '@/bench/context'
import { handPart } from '@/bench/stages/capture/hand/hand'
import { sheetHandle, suggestions } from '@/bench/stages/capture/sheetHandle'
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
const { nexts, waiting, shown, show, setUp } = suggestions(context)
const figures = computed(() => live.coverage.value?.figures as unknown as Figures | undefined)
const handle = context.part('capture', sheetHandle)
/** A pass that is not placed, asked for, of which nothing can be forecast. */
const unknown = computed(() => {
  const asked = bench.bench.value?.passes.find((p) => p.title === handle.where.value && !p.placed)
  return asked && figures.value?.whole && !shown.value ? asked.title : ''
})
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
        <p v-for="one in waiting" :key="one.name" data-test="waiting-pass">
          “{{ one.name }}” is not placed: about
          <button
            class="link"
            :aria-pressed="shown?.name === one.name"
            title="Show where, as far as how the object lay tells"
            @click="show(one.name)"
          >
            {{ percent(one.common, 0) }} in common
          </button>
        </p>
        <p v-for="(n, at) in nexts.slice(0, 2)" :key="n.words" data-test="next-pass">
          {{ at ? 'or' : 'Next:' }} {{ n.words }} <b class="num">+ {{ percent(n.gain, 0) }}</b
          ><span class="quiet">, </span>
          <button
            class="link"
            :aria-pressed="shown?.name === n.words"
            title="Show where what it sees is known already, and where it would add"
            :data-test="`where-next-${at}`"
            @click="show(n.words)"
          >
            {{ percent(n.common, 0) }} in common</button
          ><template v-if="!bench.lookOnly.value"
            >{{ ' ' }}
            <button class="link" :data-test="`set-up-next-${at}`" @click="setUp(n)">Set it up</button>
            <kbd v-if="!at" class="key">Alt+P</kbd></template
          >
        </p>
      </template>
      <p v-if="unknown" role="status">
        How the object lay for “{{ unknown }}” is not known: what it shares cannot be told before it is
        placed.
      </p>
      <p v-if="shown" class="share" role="status" data-test="share">
        <i class="again" />seen again <i class="fresh" />enough by it
      </p>
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
.link {
  margin-right: 8px;
}
.link[aria-pressed='true'] {
  text-decoration: underline;
}
.share i {
  display: inline-block;
  width: 10px;
  height: 10px;
  border-radius: 2px;
  margin: 0 5px 0 8px;
}
.share i.again {
  margin-left: 0;
  background: var(--verdigris);
}
.share i.fresh {
  background: var(--ochre);
}
.ends {
  color: var(--ink-2);
  font-size: 11.5px;
}
</style>
