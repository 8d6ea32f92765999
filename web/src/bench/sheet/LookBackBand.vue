<script setup lang="ts">
import { computed } from 'vue'
import { useBenchContext } from '@/bench/context'
import { MOST_AT_ONCE } from '@/bench/useShownSurface'
import { count } from '@/composables/format'
import { replayingPart } from '@/bench/sheet/replaying'

/** Says that the object is shown as it was, and how to come back. */
const context = useBenchContext()
const { bench, view } = context
const { bench: shown, changed, lookingBack } = bench
const { leaveOut } = replayingPart(context)
const steps = computed(() => shown.value?.steps ?? [])
const triangles = computed(() => shown.value?.mesh?.triangles ?? 0)
const few = computed(() => view.glancing.value && triangles.value > MOST_AT_ONCE)
const number = computed(() =>
  changed.value
    ? steps.value.findIndex((s) => s.id === changed.value!.id)
    : steps.value.findIndex((s) => s.after === shown.value?.snapshot),
)
function out() {
  const step = steps.value[number.value]
  if (step) leaveOut(step)
  void bench.lookAt(null)
}
</script>

<template>
  <div v-if="lookingBack" class="band" role="status" data-test="looking-back">
    <span v-if="changed">
      You are changing step {{ number + 1 }}, <b>{{ changed.title }}</b>: as it was before it. The button of
      its card keeps the change.
    </span>
    <span v-else>
      As it was after step {{ number + 1 }} of {{ steps.length }}, <b>{{ steps[number]?.title }}</b>
    </span>
    <span v-if="few" class="few">
      Drawn with fewer triangles.
      <button class="link" data-test="show-whole" @click="view.whole.value = true">
        Show all {{ count(triangles) }}
      </button>
    </span>
    <span class="acts">
      <button v-if="changed" class="link" @click="out">Leave it out</button>
      <button
        v-else
        class="link"
        :disabled="bench.job.value != null || bench.lookOnly.value"
        data-test="band-go-on"
        @click="bench.goOn({ snapshot: bench.at.value })"
      >
        Go on from here
      </button>
      <button class="link" data-test="come-back" @click="bench.lookAt(null)">
        Come back <kbd class="key">Esc</kbd>
      </button>
    </span>
  </div>
</template>

<style scoped>
.band {
  position: absolute;
  right: 14px;
  top: 106px;
  display: flex;
  flex-direction: column;
  gap: 4px;
  max-width: 330px;
  padding: 7px 14px;
  border-radius: 8px;
  background: var(--ochre-wash, var(--sheet));
  border: 1px solid var(--ochre);
  box-shadow: var(--lift);
}
.few {
  color: var(--ink-2);
}
.acts {
  display: flex;
  gap: 12px;
  white-space: nowrap;
}
</style>
