<script setup lang="ts">
import InputNumber from 'primevue/inputnumber'
import SelectButton from 'primevue/selectbutton'
import ToggleSwitch from 'primevue/toggleswitch'
import { reactive, watch } from 'vue'
import type { OperationView, StepView } from '@/api/client'
import { reportLine } from '@/composables/format'

const props = defineProps<{
  operation: OperationView
  keyName: string
  open: boolean
  done: StepView | null
  busy: boolean
  main: boolean
}>()
const emit = defineEmits<{ open: []; run: [Record<string, unknown>] }>()
const values = reactive<Record<string, number | boolean | string>>({})
watch(
  () => props.operation,
  (o) =>
    o.parameters.forEach(
      (p) => (values[p.name] = (props.done?.parameters as never)?.[p.name] ?? (p.default as number)),
    ),
  { immediate: true },
)
const words = (name: string) =>
  name
    .replace(/_mm$|_deg$/, '')
    .replace(/_/g, ' ')
    .replace(/^./, (c) => c.toUpperCase())
</script>

<template>
  <article :class="{ open }" :data-test="`operation-${operation.name}`">
    <button class="head" :aria-expanded="open" @click="emit('open')">
      <span class="tick" :class="{ done }">{{ done ? '✓' : '' }}</span>
      <span class="title">{{ operation.title }}</span>
      <kbd class="key">{{ keyName }}</kbd>
      <span class="said">{{ done ? reportLine(done.report) || 'done' : operation.help }}</span>
    </button>
    <form v-if="open" @submit.prevent="emit('run', { ...values })">
      <p v-if="done" class="quiet">{{ operation.help }}</p>
      <!-- Buttons in a label would hand their clicks to its first one. -->
      <component
        :is="p.choices.length ? 'div' : 'label'"
        v-for="p in operation.parameters"
        :key="p.name"
        class="field"
        :title="p.help"
        :class="{ wide: p.choices.length }"
      >
        <span
          >{{ words(p.name) }}<small>{{ p.help }}</small></span
        >
        <ToggleSwitch v-if="p.type === 'bool'" v-model="values[p.name] as boolean" />
        <SelectButton
          v-else-if="p.choices.length"
          v-model="values[p.name]"
          :options="p.choices.map((value) => ({ value, title: words(value) }))"
          option-label="title"
          option-value="value"
          :allow-empty="false"
          :aria-label="words(p.name)"
          size="small"
        />
        <InputNumber
          v-else
          v-model="values[p.name] as number"
          :min="p.low ?? undefined"
          :max="p.high ?? undefined"
          :max-fraction-digits="p.type === 'int' ? 0 : 3"
          :suffix="p.unit ? `\u2009${p.unit}` : ''"
          locale="en-GB"
          size="small"
          :input-style="{ width: '104px' }"
        />
      </component>
      <button :class="main ? 'main-button' : 'plain-button'" :disabled="busy" type="submit">
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
  font-size: 11px;
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
form {
  padding: 0 16px 12px;
  display: flex;
  flex-direction: column;
  gap: 8px;
}
.field {
  display: flex;
  justify-content: space-between;
  gap: 10px;
  align-items: center;
}
.field > :last-child {
  flex: none;
}
.field.wide {
  flex-direction: column;
  align-items: stretch;
  gap: 6px;
}
.field.wide :deep(.p-selectbutton) {
  display: grid;
  grid-auto-flow: column;
  grid-auto-columns: 1fr;
}
small {
  display: block;
  color: var(--ink-2);
  font-size: 11.5px;
}
form > button {
  width: 100%;
}
</style>
