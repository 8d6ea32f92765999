<script setup lang="ts">
import { nextTick, ref, watch } from 'vue'
import type { StepView } from '@/api/client'
import { clock } from '@/composables/format'

const props = defineProps<{ steps: StepView[]; busy: boolean }>()
const emit = defineEmits<{ undo: []; redo: [] }>()
const list = ref<HTMLElement>()
watch(
  () => props.steps.filter((s) => !s.undone).length,
  () => nextTick(() => list.value?.querySelector('.last')?.scrollIntoView({ block: 'nearest' })),
  { immediate: true },
)
</script>

<template>
  <section class="sheet" aria-label="Run sheet">
    <header>
      <h2>Run sheet</h2>
      <span>
        <button
          class="link"
          :disabled="busy || !steps.some((s) => !s.undone)"
          title="Ctrl+Z"
          data-test="undo"
          @click="emit('undo')"
        >
          Undo
        </button>
        <button
          class="link"
          :disabled="busy || !steps.some((s) => s.undone)"
          title="Ctrl+Shift+Z"
          data-test="redo"
          @click="emit('redo')"
        >
          Redo
        </button>
      </span>
    </header>
    <p v-if="!steps.length" class="quiet none">Every step will be written here and can be undone.</p>
    <ol ref="list" tabindex="0" aria-label="Steps">
      <li
        v-for="(step, n) in steps"
        :key="step.id"
        :class="{ undone: step.undone, last: !step.undone && (steps[n + 1]?.undone ?? true) }"
        data-test="step"
      >
        <span class="dot" />
        <span class="what"
          >{{ step.title }}<small v-if="step.headline">{{ step.headline }}</small></span
        >
        <span class="num">{{ clock(step.seconds) }}</span>
      </li>
    </ol>
  </section>
</template>

<style scoped>
.sheet {
  border-top: var(--hair);
  max-height: 46%;
  display: flex;
  flex-direction: column;
}
header {
  display: flex;
  justify-content: space-between;
  align-items: baseline;
  padding: 10px 14px 4px;
}
header span {
  display: flex;
  gap: 12px;
}
h2 {
  font-size: 14px;
}
.none {
  padding: 0 14px 12px;
}
ol {
  list-style: none;
  margin: 0;
  padding: 0 14px 10px;
  overflow: auto;
  display: flex;
  flex-direction: column;
}
li {
  display: flex;
  gap: 10px;
  padding: 3px 0;
  align-items: baseline;
}
.dot {
  flex: none;
  width: 7px;
  height: 7px;
  border-radius: 50%;
  background: var(--ink-3);
}
.last .dot {
  background: var(--verdigris);
  box-shadow: 0 0 0 3px var(--verdigris-wash);
}
.what {
  flex: 1;
  min-width: 0;
}
small {
  display: block;
  font: 11.5px var(--mono);
  color: var(--ink-2);
}
.undone {
  color: var(--ink-3);
}
.undone .dot {
  background: none;
  border: 1px solid var(--ink-3);
}
</style>
