<script setup lang="ts">
import { ref } from 'vue'
import type { JudgedStep, OperationView, RecipeStep } from '@/api/client'
import { BY_HAND } from '@/lib/kinds'

/** The steps of a recipe as a list: order, what is left out, marks. The form of one step stands in the slot. */
const props = defineProps<{
  steps: RecipeStep[]
  judged: JudgedStep[]
  operations: OperationView[]
  /** A recipe that ships is shown, not changed. */
  fixed: boolean
}>()
const emit = defineEmits<{ move: [number, number]; remove: [number]; unmark: [number]; add: [string] }>()
const open = ref(-1)
const adding = ref('')
const of = (step: RecipeStep) => props.operations.find((o) => o.name === step.operation)
const isMark = (step: RecipeStep, name: string) =>
  BY_HAND.includes(of(step)?.parameters.find((p) => p.name === name)?.kind ?? '') &&
  typeof step.parameters[name] === 'object'
const marks = (step: RecipeStep) => Object.keys(step.parameters).filter((name) => isMark(step, name))
const words = (step: RecipeStep) =>
  Object.entries(step.parameters)
    .filter(([name]) => !isMark(step, name))
    .map(([name, value]) => `${name.replace(/_mm$|_deg$/, '').replace(/_/g, ' ')} ${String(value)}`)
    .join(' · ')
let from = -1
function drop(to: number) {
  if (from >= 0 && from !== to) emit('move', from, to)
  from = -1
}
function move(n: number, by: number) {
  emit('move', n, n + by)
  open.value = -1
}
</script>

<template>
  <ol aria-label="Steps of the recipe">
    <li
      v-for="(step, n) in steps"
      :key="n"
      :draggable="!fixed"
      :class="{ wrong: judged[n]?.fault }"
      data-test="recipe-line"
      @dragstart="from = n"
      @dragover.prevent
      @drop.prevent="drop(n)"
    >
      <div class="line">
        <span class="num">{{ n + 1 }}</span>
        <button class="what" :aria-expanded="open === n" @click="open = open === n ? -1 : n">
          <b>{{ of(step)?.title ?? step.operation }}</b>
          <small>{{ words(step) || 'as it comes' }}{{ marks(step).length ? ' · marked by hand' : '' }}</small>
        </button>
        <span v-if="!fixed" class="acts">
          <button class="link" :disabled="n === 0" :aria-label="`Move step ${n + 1} up`" @click="move(n, -1)">
            ↑
          </button>
          <button
            class="link"
            :disabled="n === steps.length - 1"
            :aria-label="`Move step ${n + 1} down`"
            @click="move(n, 1)"
          >
            ↓
          </button>
          <button v-if="marks(step).length" class="link" data-test="unmark" @click="emit('unmark', n)">
            Without marks
          </button>
          <button
            class="link"
            :aria-label="`Leave step ${n + 1} out`"
            data-test="remove-step"
            @click="emit('remove', n)"
          >
            Leave out
          </button>
        </span>
      </div>
      <p v-if="judged[n]?.fault" class="fault" role="alert">{{ judged[n].fault }}</p>
      <p v-else-if="judged[n]?.note" class="note">{{ judged[n].note }}</p>
      <div v-if="open === n" class="form"><slot :step="step" :number="n" :operation="of(step)" /></div>
    </li>
  </ol>
  <div v-if="!fixed" class="add">
    <select v-model="adding" aria-label="Operation to add" class="text-entry" data-test="operation-to-add">
      <option value="">Add a step…</option>
      <option v-for="o in operations" :key="o.name" :value="o.name">{{ o.title }} ({{ o.stage }})</option>
    </select>
    <button
      class="plain-button"
      :disabled="!adding"
      data-test="add-step"
      @click="(emit('add', adding), (open = steps.length), (adding = ''))"
    >
      Add
    </button>
  </div>
</template>

<style scoped>
ol {
  list-style: none;
  margin: 0;
  padding: 0;
  border: var(--hair);
  border-radius: 8px;
  background: var(--sheet);
}
li + li {
  border-top: var(--hair);
}
li.wrong {
  box-shadow: inset 3px 0 0 var(--oxblood);
}
.line {
  display: flex;
  align-items: baseline;
  gap: 12px;
  padding: 6px 14px;
}
.line .num {
  color: var(--ink-2);
  width: 18px;
}
.what {
  flex: 1;
  min-width: 0;
  border: 0;
  background: none;
  text-align: left;
  cursor: pointer;
  padding: 2px 0;
}
.what b {
  font-weight: 500;
}
small {
  display: block;
  color: var(--ink-2);
  font-size: 12.5px;
}
.acts {
  display: flex;
  gap: 8px;
}
.acts .link {
  min-width: 24px;
  min-height: 24px;
}
.fault,
.note {
  padding: 0 14px 6px 44px;
  font-size: 12.5px;
}
.fault {
  color: var(--oxblood);
}
.note {
  color: var(--ochre-ink);
}
.form {
  padding: 2px 14px 12px 44px;
  max-width: 560px;
}
.add {
  display: flex;
  gap: 8px;
  margin-top: 10px;
}
.add select {
  width: 280px;
}
</style>
