<script setup lang="ts">
import type { ParameterView } from '@/api/client'
import { words } from '@/bench/worksheet/fields'

defineProps<{ parameter: ParameterView }>()
const value = defineModel<string | null>()
</script>

<template>
  <input
    type="color"
    :value="value ?? '#808080'"
    :aria-label="words(parameter.name)"
    @input="value = ($event.target as HTMLInputElement).value"
  />
</template>
