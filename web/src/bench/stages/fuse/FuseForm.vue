<script setup lang="ts">
import { computed, onBeforeUnmount, onMounted, reactive, watch } from 'vue'
import { useBenchContext } from '@/bench/context'
import ParameterFields from '@/bench/worksheet/ParameterFields.vue'
import { count } from '@/composables/format'

interface Forecast {
  voxel_mm: number
  triangles: number
  memory_gb: number
  free_gb: number
  seconds: number
  finest_mm: number
}
/** The numbers of a fusion, with what will come of it before it starts. */
const props = defineProps<{ busy: boolean; main: boolean; name: string }>()
const { bench, live } = useBenchContext()
const operation = computed(() => bench.catalogue.value!.operations.find((o) => o.name === props.name)!)
const last = bench.doneBy.value[props.name]?.parameters as Record<string, unknown> | undefined
const values = reactive<Record<string, unknown>>({})
operation.value.parameters.forEach(
  (p) => (values[p.name] = p.name === 'take' ? '' : (last?.[p.name] ?? p.default)),
)
const told = computed(() => {
  const figures = live.preview.value?.figures as unknown as Forecast | undefined
  return figures?.finest_mm === undefined ? null : figures
})
const time = (seconds: number) =>
  seconds < 90 ? `${Math.max(Math.round(seconds), 1)} s` : `${(seconds / 60).toFixed(1)} min`
const ask = () => live.show(props.name, { ...values })
watch(values, ask)
onMounted(ask)
onBeforeUnmount(live.hide)
</script>

<template>
  <form class="card-form" data-test="fuse" @submit.prevent="bench.operation(name, { ...values })">
    <ParameterFields :parameters="operation.parameters" :values="values" :titles="[]" />
    <div role="status" data-test="forecast">
      <dl v-if="told" class="figures">
        <dt>Voxel</dt>
        <dd class="num">{{ told.voxel_mm.toFixed(3) }}&#8201;mm</dd>
        <dt>Triangles</dt>
        <dd class="num">about {{ count(told.triangles) }}</dd>
        <dt>Memory</dt>
        <dd class="num" :class="{ warn: told.memory_gb > told.free_gb * 0.7 }">
          {{ told.memory_gb.toFixed(2) }} of {{ told.free_gb.toFixed(0) }}&#8201;GB free
        </dd>
        <dt>Time</dt>
        <dd class="num">about {{ time(told.seconds) }}</dd>
        <dt>Finest</dt>
        <dd class="num">{{ told.finest_mm.toFixed(2) }}&#8201;mm crest to crest</dd>
      </dl>
      <p v-else class="quiet">{{ live.refused.value || 'Working out what will come of it…' }}</p>
    </div>
    <button :class="main ? 'main-button' : 'plain-button'" :disabled="busy" type="submit">
      {{ operation.title }}
    </button>
  </form>
</template>

<style scoped>
.warn {
  color: var(--ochre-ink);
}
p {
  margin: 0;
}
</style>
