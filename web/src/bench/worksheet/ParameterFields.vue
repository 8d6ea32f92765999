<script setup lang="ts">
import type { ParameterView } from '@/api/client'
import { fieldOf, inLabel, words } from '@/bench/worksheet/fields'

/** A field for each of some parameters, with its name and help; what is written goes into `values`. */
defineProps<{ parameters: ParameterView[]; values: Record<string, unknown>; titles: string[] }>()
/** What needs the whole width stands below its name. */
const isWide = (p: ParameterView) => !inLabel(p) || p.kind === 'text'
</script>

<template>
  <!-- Buttons in a label would hand their clicks to its first one. -->
  <component
    :is="inLabel(p) ? 'label' : 'div'"
    v-for="p in parameters"
    :key="p.name"
    class="field"
    :title="p.help"
    :class="{ wide: isWide(p) }"
  >
    <span
      >{{ words(p.name) }}<small>{{ p.help }}</small></span
    >
    <!-- eslint-disable-next-line vue/no-mutating-props -- the form's own values, written here for it -->
    <component :is="fieldOf(p)" v-model="values[p.name]" :parameter="p" :titles="titles" />
  </component>
</template>

<style scoped>
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
</style>
