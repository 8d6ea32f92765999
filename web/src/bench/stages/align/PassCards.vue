<script setup lang="ts">
import { computed } from 'vue'
import { useBenchContext } from '@/bench/context'
import { sheetHandle } from '@/bench/stages/capture/sheetHandle'
import { verdicts } from '@/bench/stages/align/verdicts'

/** How every pass lies to the others, in words, and for one that is not placed what would help. */
const context = useBenchContext()
const { bench, view, goTo } = context
const handle = context.part('capture', sheetHandle)
const cards = computed(() => verdicts(bench.bench.value?.passes ?? [], bench.bench.value?.steps ?? []))
/** Switch a pass off, or on again. */
function turn(title: string, on: boolean) {
  const off = cards.value.filter((c) => (c.title === title ? !on : c.off)).map((c) => c.title)
  bench.operation('switch_passes', { off })
}
const COLOUR = {
  ask: {
    label: 'Use colour',
    takes: 'auto',
    title: 'Fit again, and let the photographs tell turns apart that the shape leaves open',
  },
  'leave out': {
    label: 'By shape alone',
    takes: 'never',
    title: 'Fit again without the photographs: right only where the paint itself changed between the passes',
  },
}
/** What a pass that is not placed shares with the others, forecast in the view of coverage. */
function showCommon(title: string) {
  handle.where.value = title
  view.mode.value = 'coverage'
}
const lastOn = (title: string) => cards.value.every((c) => c.off || c.title === title)
const hue = (n: number) => `var(--pass-${(n % 6) + 1})`
</script>

<template>
  <ul v-if="cards.length > 1" data-test="pass-cards">
    <li v-for="(card, n) in cards" :key="card.title" :class="{ off: card.off }">
      <i :style="{ background: hue(n) }" />
      <div>
        <label :title="`Off: try the object without “${card.title}”; undo takes it back`">
          <input
            type="checkbox"
            :checked="!card.off"
            :disabled="bench.busy.value || (!card.off && lastOn(card.title))"
            :aria-label="`“${card.title}” is worked with`"
            :data-test="`pass-on-${n}`"
            @change="turn(card.title, card.off)"
          /><b>{{ card.title }}</b>
        </label>
        <span v-if="card.figures" class="num">{{ card.figures }}</span>
        <p :class="{ open: !card.placed && !card.off }">{{ card.words }}</p>
        <div
          v-if="!card.placed && !card.off"
          class="acts"
          role="group"
          :aria-label="`What would place ${card.title}`"
        >
          <button
            class="link"
            :disabled="bench.busy.value"
            title="Drag it near the others, and let it snap onto them"
            @click="view.card.value = 'snap'"
          >
            Snap
          </button>
          <button class="link" :disabled="bench.busy.value" @click="bench.operation('by_markers')">
            By markers
          </button>
          <button
            v-if="card.colour"
            class="link"
            :disabled="bench.busy.value"
            :title="COLOUR[card.colour].title"
            @click="bench.operation('find_fit', { colour: COLOUR[card.colour].takes })"
          >
            {{ COLOUR[card.colour].label }}
          </button>
          <button
            class="link"
            title="Tie spots of it to spots of the others"
            @click="view.card.value = 'match_points'"
          >
            Match points
          </button>
          <button
            class="link"
            title="Where the passes see the same, as far as how the object lay tells"
            @click="showCommon(card.title)"
          >
            In common
          </button>
          <button
            class="link"
            title="A pass from between: a third of its surface in common with both"
            @click="goTo('capture')"
          >
            Capture a bridge
          </button>
        </div>
      </div>
    </li>
  </ul>
</template>

<style scoped>
ul {
  list-style: none;
  margin: 0;
  padding: 8px 16px;
  border-bottom: var(--hair);
}
li {
  display: grid;
  grid-template-columns: 10px 1fr;
  gap: 10px;
  padding: 5px 0;
}
i {
  width: 10px;
  height: 18px;
  margin-top: 1px;
  border-radius: 2px;
}
b {
  font-weight: 500;
}
label {
  cursor: pointer;
}
input {
  margin: 0 7px 0 0;
  accent-color: var(--verdigris);
  vertical-align: -1px;
}
.off > i {
  opacity: 0.35;
}
.num {
  float: right;
  font-size: 12px;
}
p {
  margin: 1px 0 0;
  font-size: 12.5px;
  color: var(--ink-2);
}
p.open {
  color: var(--ochre-ink);
}
.acts {
  display: flex;
  flex-wrap: wrap;
  gap: 2px 12px;
  margin-top: 3px;
}
</style>
