<script setup lang="ts">
import InputNumber from 'primevue/inputnumber'
import Select from 'primevue/select'
import { computed, reactive, ref } from 'vue'
import type { Said, Sending } from '@/api/uploads'
import { bytes, clock } from '@/composables/format'

const props = defineProps<{ sending: Sending | null; readable: string[]; busy: boolean }>()
const emit = defineEmits<{ pick: [File[], Said]; stop: [] }>()

const UNITS = [
  { label: 'Found by itself', value: undefined },
  { label: 'Millimetres', value: 'mm' },
  { label: 'Centimetres', value: 'cm' },
  { label: 'Metres', value: 'm' },
  { label: 'Inches', value: 'in' },
] as const
/** The camera of an RGB-D folder, in pixels; what it does not say itself. */
const FIELDS = [
  { key: 'width', label: 'Width' },
  { key: 'height', label: 'Height' },
  { key: 'fx', label: 'fx' },
  { key: 'fy', label: 'fy' },
  { key: 'cx', label: 'cx' },
  { key: 'cy', label: 'cy' },
] as const
const COMPANIONS = ['.mtl', '.png', '.jpg', '.jpeg']

const unit = ref<(typeof UNITS)[number]>(UNITS[0])
const camera = reactive({ width: 640, height: 480, fx: 525, fy: 525, cx: 319.5, cy: 239.5 })
const depthUnit = ref(0.2)
const own = ref(false)
const file = ref<HTMLInputElement>()
const accept = computed(() => [...props.readable, ...COMPANIONS].join(','))
const share = computed(() => (props.sending ? props.sending.sent / Math.max(props.sending.bytes, 1) : 0))
const left = computed(() =>
  props.sending?.secondsLeft == null ? 'time not known yet' : `${clock(props.sending.secondsLeft)} left`,
)
function said(): Said {
  const told = own.value ? { camera: { ...camera }, depth_unit_mm: depthUnit.value } : {}
  return { ...told, ...(unit.value.value ? { unit: unit.value.value } : {}) }
}
const take = (files: File[]) => files.length && emit('pick', files, said())
const browse = () => file.value?.click()
function picked(e: Event) {
  const input = e.target as HTMLInputElement
  take([...(input.files ?? [])])
  input.value = ''
}
defineExpose({ browse, take })
</script>

<template>
  <section class="arrivals" data-test="arrivals">
    <h3>Bring in scans <kbd class="key">I</kbd></h3>
    <template v-if="sending">
      <p class="file">
        <b>{{ sending.name }}</b>
        <span v-if="sending.files > 1" class="quiet"> {{ sending.number }} of {{ sending.files }}</span>
      </p>
      <div class="bar"><i :style="{ width: `${share * 100}%` }" /></div>
      <p class="row">
        <span class="num">{{ bytes(sending.sent) }} of {{ bytes(sending.bytes) }} · {{ left }}</span>
        <button class="link" data-test="stop-sending" @click="emit('stop')">Stop</button>
      </p>
    </template>
    <template v-else>
      <p class="quiet">
        Each file becomes a pass: captures, points, meshes, RGB-D folders as .zip. Or drop them on the view.
      </p>
      <label class="beside"
        ><span>Unit</span
        ><Select v-model="unit" :options="[...UNITS]" option-label="label" size="small" aria-label="Unit"
      /></label>
      <label class="ticked"
        ><input v-model="own" type="checkbox" data-test="own-camera" /> Camera of RGB-D folders</label
      >
      <div v-if="own" class="camera">
        <label v-for="f in FIELDS" :key="f.key" class="beside"
          ><span>{{ f.label }}</span
          ><InputNumber
            v-model="camera[f.key]"
            size="small"
            :max-fraction-digits="3"
            :use-grouping="false"
            :input-props="{ 'aria-label': `${f.label}, pixels` }"
            fluid
        /></label>
        <label class="beside wide"
          ><span>One count of depth, mm</span
          ><InputNumber
            v-model="depthUnit"
            size="small"
            :min="0.000001"
            :max="1000"
            :max-fraction-digits="6"
            :input-props="{ 'aria-label': 'One count of depth in mm' }"
            fluid
        /></label>
      </div>
      <button class="plain-button" :disabled="busy" data-test="choose-files" @click="browse">
        Choose files
      </button>
      <slot />
    </template>
    <input ref="file" type="file" multiple :accept="accept" hidden data-test="import-file" @change="picked" />
  </section>
</template>

<style scoped>
.arrivals {
  display: flex;
  flex-direction: column;
  gap: 8px;
  padding: 10px 16px 12px;
  border-bottom: var(--hair);
}
h3 {
  display: flex;
  justify-content: space-between;
  font-size: 14px;
  font-weight: 500;
}
.camera {
  display: grid;
  grid-template-columns: 1fr 1fr;
  gap: 6px 10px;
}
.camera label > :last-child:not(:first-child) {
  width: 66px;
}
.camera .wide {
  grid-column: 1 / -1;
}
.file {
  overflow: hidden;
  text-overflow: ellipsis;
  white-space: nowrap;
}
.row {
  display: flex;
  justify-content: space-between;
  align-items: center;
}
</style>
