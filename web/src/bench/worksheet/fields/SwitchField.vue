<script setup lang="ts">
import ToggleSwitch from 'primevue/toggleswitch'
import type { ParameterView } from '@/api/client'
import { words } from '@/bench/worksheet/fields'

defineProps<{ parameter: ParameterView }>()
const value = defineModel<boolean>()
</script>

<template>
  <ToggleSwitch v-model="value" :aria-label="words(parameter.name)" />
</template>
