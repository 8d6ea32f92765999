<script setup lang="ts">
import InputNumber from 'primevue/inputnumber'
import type { ParameterView } from '@/api/client'
import { words } from '@/bench/worksheet/fields'

defineProps<{ parameter: ParameterView }>()
const value = defineModel<number>()
</script>

<template>
  <InputNumber
    v-model="value"
    :min="parameter.low ?? undefined"
    :max="parameter.high ?? undefined"
    :max-fraction-digits="parameter.kind === 'whole' ? 0 : 3"
    :suffix="parameter.unit ? `\u2009${parameter.unit}` : ''"
    :aria-label="words(parameter.name)"
    locale="en-GB"
    size="small"
    :input-style="{ width: '104px' }"
  />
</template>
