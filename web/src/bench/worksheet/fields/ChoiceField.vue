<script setup lang="ts">
import SelectButton from 'primevue/selectbutton'
import type { ParameterView } from '@/api/client'
import { words } from '@/bench/worksheet/fields'

defineProps<{ parameter: ParameterView }>()
const value = defineModel<string>()
</script>

<template>
  <SelectButton
    v-model="value"
    :options="parameter.choices.map((choice) => ({ choice, title: words(choice) }))"
    option-label="title"
    option-value="choice"
    :allow-empty="false"
    :aria-label="words(parameter.name)"
    size="small"
  />
</template>
