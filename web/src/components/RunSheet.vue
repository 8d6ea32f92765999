<script setup lang="ts">
import { nextTick, ref, watch } from 'vue'
import type { StepView } from '@/api/client'
import StepDetails from '@/components/StepDetails.vue'
import { clock } from '@/composables/format'

const props = withDefaults(
  defineProps<{
    steps: StepView[]
    busy: boolean
    /** The id of the step whose details stand open, or 0. */
    opened?: number
    /** What is to become of steps: other numbers, or that they are left out. */
    marked?: Record<number, 'changed' | 'left out'>
    /** Operations whose numbers can be changed. */
    changeable?: string[]
    branches?: number
    /** The name of the branch that is worked on. */
    branch?: string
    /** Whether more than steps stands in it: it takes the room of what is above it then. */
    tall?: boolean
  }>(),
  { opened: 0, marked: () => ({}), changeable: () => [], branches: 0, branch: '' },
)
const emit = defineEmits<{
  undo: []
  redo: []
  look: [StepView]
  goOn: [StepView]
  change: [StepView]
  leaveOut: [StepView]
  asItWas: [StepView]
  branches: []
  save: []
}>()
const list = ref<HTMLElement>()
const firstMarked = () => props.steps.findIndex((s) => props.marked[s.id])
const isStale = (n: number) => firstMarked() >= 0 && n > firstMarked()
const isLast = (n: number) => !props.steps[n].undone && (props.steps[n + 1]?.undone ?? true)
watch(
  () => props.steps.filter((s) => !s.undone).length,
  () => nextTick(() => list.value?.querySelector('.last')?.scrollIntoView({ block: 'nearest' })),
  { immediate: true },
)
</script>

<template>
  <section class="sheet" :class="{ tall }" aria-label="Run sheet">
    <header>
      <h2>Run sheet</h2>
      <span>
        <button
          class="link"
          :disabled="!steps.length"
          title="Save steps as a recipe (Shift+S)"
          data-test="save-recipe"
          @click="emit('save')"
        >
          Recipe
        </button>
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
    <p v-if="branches > 1" class="branch">
      <span class="quiet" :title="branch">{{ branch }}</span>
      <button class="link" title="Branches of the run sheet" data-test="branches" @click="emit('branches')">
        {{ branches }} branches
      </button>
    </p>
    <p v-if="!steps.length" class="quiet none">Every step will be written here and can be undone.</p>
    <ol ref="list" tabindex="0" aria-label="Steps">
      <li
        v-for="(step, n) in steps"
        :key="step.id"
        :class="{
          undone: step.undone,
          last: isLast(n),
          shown: step.id === opened,
          stale: isStale(n) && !marked[step.id],
          out: marked[step.id] === 'left out',
        }"
        data-test="step"
      >
        <button
          class="line"
          :title="`Look at the object as it was after “${step.title}”`"
          :aria-expanded="step.id === opened"
          @click="emit('look', step)"
        >
          <span class="dot" />
          <span class="what"
            >{{ step.title }}<small v-if="marked[step.id]">{{ marked[step.id] }}</small
            ><small v-else-if="step.headline">{{ step.headline }}</small></span
          >
          <span class="num">{{ step.known ? 'known' : clock(step.seconds) }}</span>
        </button>
        <StepDetails
          v-if="step.id === opened"
          :step="step"
          :marked="marked[step.id] ?? ''"
          :changeable="changeable.includes(step.operation)"
          :last="isLast(n)"
          @go-on="emit('goOn', step)"
          @change="emit('change', step)"
          @leave-out="emit('leaveOut', step)"
          @as-it-was="emit('asItWas', step)"
        />
      </li>
    </ol>
    <slot />
  </section>
</template>

<style scoped>
.sheet {
  border-top: var(--hair);
  max-height: 56%;
  display: flex;
  flex-direction: column;
}
.sheet.tall {
  max-height: 84%;
}
header {
  display: flex;
  justify-content: space-between;
  align-items: baseline;
  padding: 10px 14px 4px;
}
header span {
  display: flex;
  gap: 10px;
}
h2 {
  font-size: 14px;
  white-space: nowrap;
}
.branch {
  display: flex;
  justify-content: space-between;
  gap: 10px;
  padding: 0 14px 2px;
  white-space: nowrap;
}
.branch span {
  overflow: hidden;
  text-overflow: ellipsis;
}
.none {
  padding: 0 14px 12px;
}
ol {
  list-style: none;
  margin: 0;
  padding: 0 8px 10px;
  overflow: auto;
  display: flex;
  flex-direction: column;
}
.line {
  display: flex;
  gap: 10px;
  width: 100%;
  padding: 3px 6px;
  align-items: baseline;
  border: 0;
  border-radius: 5px;
  background: none;
  text-align: left;
  cursor: pointer;
}
.line:hover {
  background: var(--sunk);
}
.shown {
  background: var(--sheet);
  border-radius: 6px;
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
.undone .line,
.stale .line {
  color: var(--ink-2);
}
.stale .what {
  font-style: italic;
}
.out .what {
  text-decoration: line-through;
}
.undone .dot,
.stale .dot {
  background: none;
  border: 1px solid var(--ink-3);
}
</style>
