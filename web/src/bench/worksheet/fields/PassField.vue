<script setup lang="ts">
import Select from 'primevue/select'
import type { ParameterView } from '@/api/client'
import { words } from '@/bench/worksheet/fields'

defineProps<{ parameter: ParameterView; titles: string[] }>()
const value = defineModel<string | null>()
</script>

<template>
  <Select
    v-model="value"
    :options="titles"
    :show-clear="parameter.optional"
    :aria-label="words(parameter.name)"
    size="small"
  />
</template>
