<script setup lang="ts">
import { computed, reactive } from 'vue'
import { useBenchContext } from '@/bench/context'
import MarkStrokes from '@/bench/marks/MarkStrokes.vue'
import { markingPart } from '@/bench/marks/marking'
import { useSurfaceMarks } from '@/bench/marks/useSurfaceMarks'
import ParameterFields from '@/bench/worksheet/ParameterFields.vue'

/** An operation on a marked part of the surface: the marks, its numbers, and what came of it last. */
const props = defineProps<{ busy: boolean; main: boolean; name: string }>()
const context = useBenchContext()
const { bench } = context
const marks = markingPart(context)
const { strokes, invert } = marks
const { any, said } = useSurfaceMarks(context, run)
const operation = computed(() => bench.catalogue.value!.operations.find((o) => o.name === props.name)!)
const fields = computed(() => operation.value.parameters.filter((p) => p.name !== 'marks'))
/** Where the marks may be left out the whole surface is meant. */
const everywhere = computed(() => operation.value.parameters.find((p) => p.name === 'marks')!.optional)
const values = reactive<Record<string, unknown>>({})
const before = bench.changed.value?.operation === props.name ? bench.changed.value.parameters : {}
operation.value.parameters.forEach(
  (p) => (values[p.name] = (before as Record<string, unknown>)[p.name] ?? p.default),
)
const done = computed(() => bench.doneBy.value[props.name] ?? null)
const ready = computed(() => !props.busy && (any.value || everywhere.value))
function run() {
  if (!ready.value) return
  void bench.operation(props.name, { ...values, marks: any.value ? marks.marks.value : null })
}
</script>

<template>
  <form class="card-form" :data-test="`surface-${name}`" @submit.prevent="run">
    <MarkStrokes />
    <p v-if="any" role="status" class="marked num" data-test="surface-figures">{{ said }}</p>
    <p v-else class="quiet" role="status">
      {{
        everywhere
          ? 'Nothing is marked: the whole surface is meant.'
          : 'Nothing is marked. Draw in the view with a tool from the strip.'
      }}
    </p>
    <div v-if="any" class="acts">
      <button type="button" class="plain-button" @click="invert = !invert">
        Turn round <kbd class="key">/</kbd>
      </button>
      <button type="button" class="plain-button" :disabled="!strokes.length" @click="marks.stepBack">
        Step back <kbd class="key">⌫</kbd>
      </button>
      <button type="button" class="plain-button" @click="marks.clear">Clear</button>
    </div>
    <ParameterFields :parameters="fields" :values="values" :titles="[]" />
    <p v-if="done" class="quiet" role="status" data-test="surface-done">Last: {{ done.headline }}.</p>
    <button :class="main ? 'main-button' : 'plain-button'" :disabled="!ready" type="submit">
      {{ operation.title }}
    </button>
  </form>
</template>

<style scoped>
.acts {
  display: flex;
  gap: 6px;
}
.acts > * {
  flex: 1 1 auto;
  white-space: nowrap;
  padding-inline: 3px;
}
p {
  margin: 0;
}
.marked {
  color: var(--mark);
}
</style>
