<script setup lang="ts">
import Slider from 'primevue/slider'
import { computed, onBeforeUnmount, onMounted } from 'vue'
import { useBenchContext } from '@/bench/context'
import { AS_LAID, lookPart, type Numbers } from '@/bench/stages/colour/look'
import { WHITE } from '@/bench/stages/colour/tools'

/** The laid colour adjusted, live in the view; the laid texture itself stays as it is. */
defineProps<{ busy: boolean; main: boolean; name: string }>()
const context = useBenchContext()
const { view } = context
const look = lookPart(context)
const { values, curtain, changed } = look
const ROWS: { name: Exclude<keyof Numbers, 'white'>; title: string }[] = [
  { name: 'light', title: 'Light' },
  { name: 'contrast', title: 'Contrast' },
  { name: 'highlights', title: 'Highlights' },
  { name: 'shadows', title: 'Shadows' },
  { name: 'warmth', title: 'Warmth' },
  { name: 'tint', title: 'Tint' },
  { name: 'saturation', title: 'Saturation' },
  { name: 'gamma', title: 'Gamma' },
]
/** Gamma runs by its logarithm: half and double lie as far from 1. */
const position = (name: (typeof ROWS)[number]['name']) =>
  name === 'gamma' ? Math.log2(values.gamma) : values[name]
function move(name: (typeof ROWS)[number]['name'], to: number) {
  values[name] = name === 'gamma' ? Math.round(100 * 2 ** to) / 100 : Math.round(100 * to) / 100
}
const said = (name: (typeof ROWS)[number]['name']) =>
  name === 'gamma' ? values.gamma.toFixed(2) : `${values[name] > 0 ? '+' : ''}${values[name].toFixed(2)}`
const laid = computed(() => ROWS.every((r) => values[r.name] === AS_LAID[r.name]) && !values.white)
function reset() {
  Object.assign(values, AS_LAID)
}
let before = view.mode.value
onMounted(() => {
  before = view.mode.value
  view.mode.value = 'colour'
  look.begin()
})
onBeforeUnmount(() => {
  look.end()
  if (view.tool.value?.name === WHITE) view.use(null)
  view.mode.value = before
})
</script>

<template>
  <form class="card-form" data-test="adjust" @submit.prevent="look.keep">
    <div class="white">
      <span>White</span>
      <i v-if="values.white" :style="{ background: look.hex(values.white) }" />
      <span class="quiet" data-test="white">{{
        values.white ? look.hex(values.white) : 'click what should be grey'
      }}</span>
      <button v-if="values.white" type="button" class="link" @click="values.white = null">Take off</button>
    </div>
    <label v-for="row in ROWS" :key="row.name" class="row" @dblclick="values[row.name] = AS_LAID[row.name]">
      <span>{{ row.title }}</span>
      <Slider
        :model-value="position(row.name)"
        :min="row.name === 'gamma' ? -2 : -1"
        :max="row.name === 'gamma' ? 2 : 1"
        :step="0.01"
        :aria-label="row.title"
        :data-test="`adjust-${row.name}`"
        @update:model-value="move(row.name, $event as number)"
      />
      <output class="num">{{ said(row.name) }}</output>
    </label>
    <button
      type="button"
      class="plain-button"
      :aria-pressed="curtain !== null"
      data-test="colour-curtain"
      @click="curtain = curtain === null ? 0.5 : null"
    >
      {{ curtain === null ? 'Curtain: as laid on the left' : 'Curtain away' }}
    </button>
    <div class="acts">
      <button type="button" class="plain-button" :disabled="laid" data-test="as-laid" @click="reset">
        Back to laid
      </button>
      <button :class="main ? 'main-button' : 'plain-button'" :disabled="busy || !changed" type="submit">
        Keep
      </button>
    </div>
  </form>
</template>

<style scoped>
.white,
.row {
  display: grid;
  grid-template-columns: 76px 1fr 48px;
  align-items: center;
  gap: 12px;
}
.white {
  grid-template-columns: 76px auto 1fr auto;
}
.white i {
  width: 18px;
  height: 18px;
  border-radius: 4px;
  border: var(--hair);
}
.row .num {
  text-align: right;
}
.acts {
  display: grid;
  grid-template-columns: 1fr 1fr;
  gap: 8px;
}
</style>
