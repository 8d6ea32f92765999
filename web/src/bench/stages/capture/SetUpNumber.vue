<script setup lang="ts">
import InputNumber from 'primevue/inputnumber'

/** A number of a set-up with its name beside it and buttons that step it. */
defineProps<{ label: string; low: number; high: number; unit?: string }>()
const value = defineModel<number>({ required: true })
/** Names of the buttons that step a number. */
const STEPPERS = {
  incrementButton: { 'aria-label': 'More', title: 'More' },
  decrementButton: { 'aria-label': 'Less', title: 'Less' },
}
</script>

<template>
  <label class="beside"
    ><span>{{ label }}</span
    ><InputNumber
      v-model="value"
      :min="low"
      :max="high"
      :suffix="unit"
      :max-fraction-digits="1"
      size="small"
      show-buttons
      button-layout="horizontal"
      :pt="STEPPERS"
      :aria-label="label"
      :input-style="{ width: '92px', textAlign: 'center' }"
  /></label>
</template>
