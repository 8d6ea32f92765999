<script setup lang="ts">
import SelectButton from 'primevue/selectbutton'
import type { ParameterView } from '@/api/client'
import { words } from '@/bench/worksheet/fields'

defineProps<{ parameter: ParameterView }>()
const value = defineModel<string>()
const FORMATS = ['3mf', 'stl', 'obj', 'ply', 'svg', 'dxf', 'html', 'pdf', 'png', 'jpeg']
/** Units are written small, formats as they are called. */
const title = (choice: string) =>
  FORMATS.includes(choice) ? choice.toUpperCase() : choice.length > 2 ? words(choice) : choice
</script>

<template>
  <SelectButton
    v-model="value"
    :options="parameter.choices.map((choice) => ({ choice, title: title(choice) }))"
    option-label="title"
    option-value="choice"
    :allow-empty="false"
    :aria-label="words(parameter.name)"
    size="small"
  />
</template>
