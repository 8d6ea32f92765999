<script setup lang="ts">
import InputText from 'primevue/inputtext'
import { computed } from 'vue'
import type { ParameterView } from '@/api/client'
import { words } from '@/bench/worksheet/fields'

/** A value in its text form, which the server reads; JSON is always understood. */
defineProps<{ parameter: ParameterView }>()
const value = defineModel<unknown>()
const text = computed({
  get: () =>
    value.value == null ? '' : typeof value.value === 'string' ? value.value : JSON.stringify(value.value),
  set: (now) => (value.value = now === '' ? null : now),
})
</script>

<template>
  <InputText
    v-model="text"
    :placeholder="parameter.written"
    :aria-label="words(parameter.name)"
    size="small"
    class="num"
  />
</template>
