<script setup lang="ts">
import { useBenchContext } from '@/bench/context'
import { SPOT, spotsPart } from '@/bench/stages/set/spots'
import { spot } from '@/bench/stages/set/tools'
import { letterOf } from '@/bench/stages/align/matching'

/** Places that are picked: how many of how many, with the tool that picks them. */
defineProps<{ words: string }>()
const context = useBenchContext()
const { view } = context
const { shown, most, stepBack, clear } = spotsPart(context)
</script>

<template>
  <div class="spots" role="group" :aria-label="words">
    <p class="quiet" role="status" data-test="spots">
      {{ words }}<template v-if="shown.length">: {{ shown.map((_, n) => letterOf(n)).join(' ') }}</template>
    </p>
    <div class="acts">
      <button
        type="button"
        class="plain-button"
        :aria-pressed="view.tool.value?.name === SPOT"
        data-test="pick-spots"
        @click="view.use(spot)"
      >
        {{ shown.length }} of {{ most > 3 ? 'some' : most }} <kbd class="key">{{ spot.key }}</kbd>
      </button>
      <button type="button" class="plain-button" :disabled="!shown.length" @click="stepBack">
        Step back
      </button>
      <button type="button" class="plain-button" :disabled="!shown.length" @click="clear">Clear</button>
    </div>
  </div>
</template>

<style scoped>
p {
  margin: 0 0 4px;
}
.acts {
  display: flex;
  gap: 6px;
}
.acts > * {
  white-space: nowrap;
  padding-inline: 6px;
}
.acts > :first-child {
  flex: 1;
}
.acts > [aria-pressed='true'] {
  background: var(--ink);
  color: var(--sheet);
}
</style>
