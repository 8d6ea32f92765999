<script setup lang="ts">
import { computed, reactive, watch, type Component } from 'vue'
import type { OperationView, StepView } from '@/api/client'
import HelpDrawing from '@/components/HelpDrawing.vue'
import ParameterFields from '@/bench/worksheet/ParameterFields.vue'

const props = defineProps<{
  operation: OperationView
  /** What it is called here. */
  title: string
  titles: string[]
  /** What stands in place of the form. */
  body?: Component
  open: boolean
  done: StepView | null
  busy: boolean
  /** What is missing before it can run, as a sentence; empty when nothing is. */
  missing: string
  main: boolean
}>()
const emit = defineEmits<{ open: []; run: [Record<string, unknown>] }>()
const values = reactive<Record<string, unknown>>({})
watch(
  () => props.operation,
  (o) =>
    o.parameters.forEach(
      (p) => (values[p.name] = (props.done?.parameters as Record<string, unknown>)?.[p.name] ?? p.default),
    ),
  { immediate: true },
)
const blocked = computed(() => props.busy || !!props.missing)
</script>

<template>
  <article :class="{ open }" :data-test="`operation-${operation.name}`">
    <button class="head" :aria-expanded="open" @click="emit('open')">
      <span class="tick" :class="{ done }">{{ done ? '✓' : '' }}</span>
      <span class="title">{{ title }}</span>
      <kbd class="key">{{ operation.key }}</kbd>
      <span class="said">{{ done ? done.headline || 'done' : operation.help }}</span>
    </button>
    <HelpDrawing v-if="open" :name="operation.name" />
    <p v-if="open && missing" class="quiet missing">{{ missing }}</p>
    <component :is="body" v-if="open && body" :name="operation.name" :busy="blocked" :main="main" />
    <form class="card-form" v-else-if="open" @submit.prevent="emit('run', { ...values })">
      <p v-if="done" class="quiet">{{ operation.help }}</p>
      <ParameterFields :parameters="operation.parameters" :values="values" :titles="titles" />
      <button :class="main ? 'main-button' : 'plain-button'" :disabled="blocked" type="submit">
        {{ operation.title }}
      </button>
    </form>
  </article>
</template>

<style scoped>
article {
  border-bottom: var(--hair);
}
article.open {
  background: var(--paper);
}
.head {
  display: grid;
  grid-template-columns: 18px 1fr auto;
  gap: 2px 8px;
  width: 100%;
  padding: 10px 16px;
  border: 0;
  background: none;
  text-align: left;
  cursor: pointer;
  align-items: center;
}
.tick {
  width: 16px;
  height: 16px;
  border-radius: 50%;
  border: 1.4px solid var(--ink-3);
  font-size: 12px;
  line-height: 14px;
  text-align: center;
}
.tick.done {
  background: var(--ink);
  border-color: var(--ink);
  color: var(--sheet);
}
.title {
  font-weight: 500;
  font-size: 14px;
}
.said {
  grid-column: 1 / -1;
  color: var(--ink-2);
  font-size: 12.5px;
}
.missing {
  margin: 0;
  padding: 0 16px 12px;
}
</style>
