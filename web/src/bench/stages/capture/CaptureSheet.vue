<script setup lang="ts">
import InputNumber from 'primevue/inputnumber'
import InputText from 'primevue/inputtext'
import Select from 'primevue/select'
import { computed, reactive, ref, watch } from 'vue'
import type { JobView } from '@/api/client'

export interface Plan {
  title: string
  stops: number
  elevation_deg: number
  tip_deg: number
  tip_about_deg: number
}
const props = defineProps<{
  passes: number
  job: JobView | null
  photo: string | null
  busy: boolean
}>()
const emit = defineEmits<{ start: [Plan]; finish: []; stop: [] }>()

const POSES = [
  { label: 'Standing upright', tip: 0, about: 0 },
  { label: 'Lying on its back', tip: -90, about: 0 },
  { label: 'Lying on its front', tip: 90, about: 0 },
  { label: 'Lying on its side', tip: 90, about: 90 },
  { label: 'Upside down', tip: 180, about: 0 },
]
/** Names of the buttons that step a number. */
const STEPPERS = {
  incrementButton: { 'aria-label': 'More', title: 'More' },
  decrementButton: { 'aria-label': 'Less', title: 'Less' },
}
const pose = ref(POSES[0])
const plan = reactive({ title: 'upright', stops: 24, elevation_deg: 24 })
const step = computed(() => (360 / plan.stops).toFixed(1))
watch(
  () => props.passes,
  (n) => {
    pose.value = POSES[n === 0 ? 0 : 2]
    plan.title = n === 0 ? 'upright' : `tipped${n > 1 ? ` ${n}` : ''}`
  },
  { immediate: true },
)
const start = () => emit('start', { ...plan, tip_deg: pose.value.tip, tip_about_deg: pose.value.about })
defineExpose({ start })
</script>

<template>
  <section class="block" data-test="capture-sheet">
    <template v-if="job">
      <img v-if="photo" :src="photo" class="photo" alt="Photograph of the newest frame" />
      <p>
        <b>{{ job.message }}</b>
      </p>
      <div class="bar"><i :style="{ width: `${job.fraction * 100}%` }" /></div>
      <p class="quiet">The table turns and stops by itself. Ending here keeps the frames that are in.</p>
      <div class="two">
        <button class="plain-button" title="Escape" @click="emit('stop')">Stop and discard</button>
        <button class="main-button" data-test="finish-pass" @click="emit('finish')">Finish pass</button>
      </div>
    </template>
    <form v-else @submit.prevent="start">
      <h3>New pass <kbd class="key">N</kbd></h3>
      <label class="beside"
        ><span>Name</span><InputText v-model="plan.title" size="small" maxlength="60" required
      /></label>
      <label class="beside"
        ><span>The object is</span><Select v-model="pose" :options="POSES" option-label="label" size="small"
      /></label>
      <label class="beside"
        ><span>Stops, {{ step }}°</span
        ><InputNumber
          v-model="plan.stops"
          :min="3"
          :max="72"
          size="small"
          show-buttons
          button-layout="horizontal"
          :pt="STEPPERS"
          :input-style="{ width: '92px', textAlign: 'center' }"
      /></label>
      <label class="beside"
        ><span>Head looks down</span
        ><InputNumber
          v-model="plan.elevation_deg"
          :min="-10"
          :max="80"
          suffix="°"
          size="small"
          show-buttons
          button-layout="horizontal"
          :pt="STEPPERS"
          :input-style="{ width: '92px', textAlign: 'center' }"
      /></label>
      <button class="main-button" :disabled="busy" type="submit" data-test="start-pass">Start pass</button>
      <p class="quiet">
        Two passes that share a third of the surface are enough for most objects: one upright, one tipped
        over.
      </p>
    </form>
  </section>
</template>

<style scoped>
.block {
  border-bottom: var(--hair);
}
.block > p,
.block > .bar,
.two {
  margin: 8px 16px;
}
.photo {
  display: block;
  width: 100%;
  background: var(--sunk);
}
.two {
  display: flex;
  gap: 8px;
}
.two > * {
  flex: 1;
}
form {
  display: flex;
  flex-direction: column;
  gap: 8px;
  padding: 10px 16px 12px;
  background: var(--paper);
}
h3 {
  display: flex;
  justify-content: space-between;
  font-size: 14px;
  font-weight: 500;
}
small {
  color: var(--ink-2);
  margin-left: 6px;
  font-size: 11.5px;
}
</style>
