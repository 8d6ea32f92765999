<script setup lang="ts">
import { useBenchContext } from '@/bench/context'
import { replayingPart } from '@/bench/sheet/replaying'

/** Changes that wait, and the button that does all that follows again. */
const context = useBenchContext()
const { bench } = context
const { changes, name, again, replay, drop } = replayingPart(context)
</script>

<template>
  <form v-if="changes.length" class="replay" data-test="replay-bar" @submit.prevent="replay">
    <p>
      <b>{{ changes.length }} {{ changes.length === 1 ? 'change' : 'changes' }}</b>
      <span class="quiet"> · {{ again }} {{ again === 1 ? 'step' : 'steps' }} to do again</span>
    </p>
    <input
      v-model="name"
      class="text-entry"
      maxlength="60"
      placeholder="Name of the branch"
      aria-label="Name of the branch"
      data-test="replay-name"
    />
    <div>
      <button type="button" class="plain-button" @click="drop">Drop</button>
      <button class="main-button" :disabled="bench.busy.value" data-test="replay">
        Replay <kbd class="key">Shift+U</kbd>
      </button>
    </div>
  </form>
</template>

<style scoped>
.replay {
  display: flex;
  flex-direction: column;
  gap: 6px;
  padding: 8px 14px 10px;
  border-top: var(--hair);
  background: var(--sheet);
}
div {
  display: flex;
  gap: 8px;
}
.main-button {
  flex: 1;
}
</style>
