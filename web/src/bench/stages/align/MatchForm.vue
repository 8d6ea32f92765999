<script setup lang="ts">
import { computed, onBeforeUnmount, onMounted } from 'vue'
import { useBenchContext } from '@/bench/context'
import { letterOf, matchingPart } from '@/bench/stages/align/matching'
import { TIE } from '@/bench/stages/align/tools'
import { mm } from '@/composables/format'

/** Spots tied between a pass and the others, and what they make of it. */
defineProps<{ busy: boolean; main: boolean }>()
const context = useBenchContext()
const { bench, view, live } = context
const match = matchingPart(context)
const { threads, judged, tied, title } = match
const titles = computed(() => (bench.bench.value?.passes ?? []).map((p) => p.title))
const missing = computed(() => live.refused.value || match.figures.value?.missing || '')
const TURNS = [
  ['↕', 0, 'Tip it over'],
  ['↔', 1, 'Turn it round'],
  ['⟳', 2, 'Roll it'],
] as const
let modeBefore = view.mode.value
onMounted(() => {
  modeBefore = view.mode.value
  // Spots are seen best in plain shading; a surface would cover the points.
  view.mode.value = bench.bench.value?.mesh ? 'passes' : 'shape'
  match.active.value = true
  if (view.tool.value?.card !== TIE.card) view.use(TIE)
})
onBeforeUnmount(() => {
  match.active.value = false
  view.mode.value = modeBefore
  if (view.tool.value?.card === TIE.card) view.use(null)
})
</script>

<template>
  <form class="card-form" data-test="match-form" @submit.prevent="match.use()">
    <label class="field">
      <span>Place</span>
      <select v-model="match.wanted.value" data-test="match-pass">
        <option value="">{{ title }}</option>
        <option v-for="t in titles.filter((t) => t !== title)" :key="t" :value="t">{{ t }}</option>
      </select>
    </label>
    <div class="field" role="group" :aria-label="`Turn ${title} by itself`">
      <span>Turn it</span>
      <span class="turns">
        <button
          v-for="[sign, axis, words] in TURNS"
          :key="axis"
          type="button"
          class="plain-button"
          :title="`${words} by 15°`"
          :aria-label="`${words} by 15°`"
          @click="match.turn(axis, 15)"
        >
          {{ sign }}
        </button>
      </span>
    </div>
    <ul v-if="threads.length" data-test="threads">
      <li v-for="(t, n) in threads" :key="n" :class="{ off: judged[n]?.used === false }">
        <b>{{ letterOf(n) }}</b>
        <span v-if="match.offered.value?.thread === n" class="quiet">likely</span>
        <span v-else-if="!t.fixed || !t.moving" class="quiet">
          now the same spot on {{ t.fixed ? title : 'the others' }}
        </span>
        <span v-else class="num">{{ judged[n] ? mm(judged[n]!.picked_mm, 2) : '–' }}</span>
        <span v-if="judged[n]?.used === false">left out</span>
        <span class="acts">
          <button
            v-if="match.offered.value?.thread === n"
            type="button"
            class="link"
            data-test="take-offered"
            @click="match.takeOffered()"
          >
            Take the ring <kbd class="key">Enter</kbd>
          </button>
          <button
            v-else-if="t.fixed && t.moving"
            type="button"
            class="link"
            :title="`Loosen its end on ${title}: the next click ties it anew. In the view its knots can be dragged.`"
            :aria-label="`Move ${letterOf(n)}`"
            @click="match.put(n, 'moving', null)"
          >
            Move
          </button>
          <button type="button" class="link" :aria-label="`Untie ${letterOf(n)}`" @click="match.untie(n)">
            Untie
          </button>
        </span>
      </li>
    </ul>
    <p class="quiet" role="status">
      {{
        tied.length < 3
          ? `${tied.length} of 3 threads tied. Click a spot, then the same one on the other side.`
          : missing
      }}
    </p>
    <button
      :class="main ? 'main-button' : 'plain-button'"
      :disabled="busy || tied.length < 3 || !!missing"
      type="submit"
      data-test="match"
    >
      Match points
    </button>
  </form>
</template>

<style scoped>
.turns {
  display: flex;
  gap: 6px;
}
li {
  display: grid;
  grid-template-columns: 20px 1fr auto auto;
  gap: 8px;
  align-items: baseline;
  padding: 2px 0;
}
.acts {
  grid-column: 4;
  display: flex;
  gap: 10px;
}
li.off {
  color: var(--ochre-ink);
}
</style>
