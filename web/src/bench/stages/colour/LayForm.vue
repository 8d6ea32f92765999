<script setup lang="ts">
import { computed, onBeforeUnmount, reactive } from 'vue'
import { useBenchContext } from '@/bench/context'
import { photographsPart, type Layout, type Photograph } from '@/bench/stages/colour/photographs'
import ParameterFields from '@/bench/worksheet/ParameterFields.vue'
import { percent } from '@/composables/format'

/** Which photographs are laid, how fine, and who shows what. */
const props = defineProps<{ busy: boolean; main: boolean; name: string }>()
const context = useBenchContext()
const { bench } = context
const { shown, loading, fault, picked, without, show, turn } = photographsPart(context)
const operation = computed(() => bench.catalogue.value!.operations.find((o) => o.name === props.name)!)
const fields = computed(() => operation.value.parameters.filter((p) => ['size', 'passes'].includes(p.name)))
const done = computed(() => bench.doneBy.value[props.name] ?? null)
const values = reactive<Record<string, unknown>>({})
fields.value.forEach(
  (p) => (values[p.name] = (done.value?.parameters as Record<string, unknown>)?.[p.name] ?? p.default),
)
const report = computed(
  () =>
    done.value?.report as
      | {
          texture: number
          seen_share: number
          texels_per_mm?: number
          photographs?: number
          touched?: number
          glare_mm2?: number
          shadow_mm2?: number
        }
      | undefined,
)
const LAYOUTS: { name: Layout; title: string }[] = [
  { name: 'photographs', title: 'Photographs' },
  { name: 'borders', title: 'Borders' },
  { name: 'unseen', title: 'Unseen' },
]
const nameOf = ([title, frame]: Photograph) => `${title}, photograph ${frame + 1}`
const isOut = (photograph: Photograph) => without.value.some((p) => p.join() === photograph.join())
function run() {
  const left: Record<string, number[]> = {}
  for (const [title, frame] of without.value) (left[title] ??= []).push(frame)
  void bench.operation(props.name, { ...values, without: left })
}
onBeforeUnmount(() => void show(null))
</script>

<template>
  <form class="card-form" data-test="lay" @submit.prevent="run">
    <ParameterFields
      :parameters="fields"
      :values="values"
      :titles="(bench.bench.value?.passes ?? []).map((p) => p.title)"
    />
    <template v-if="report?.texture">
      <dl class="figures" data-test="laid">
        <dt>Texture</dt>
        <dd class="num">
          {{ report.texture
          }}<template v-if="report.texels_per_mm"
            >, {{ report.texels_per_mm.toPrecision(3) }} texels a mm</template
          >
        </dd>
        <dt>Seen</dt>
        <dd class="num">{{ percent(report.seen_share) }}</dd>
        <template v-if="report.photographs">
          <dt>Photographs</dt>
          <dd class="num">
            {{ report.photographs
            }}<template v-if="report.touched">, {{ report.touched }} not everywhere</template>
          </dd>
        </template>
      </dl>
      <div class="layouts" role="group" aria-label="What the surface shows">
        <button
          v-for="l in LAYOUTS"
          :key="l.name"
          type="button"
          class="plain-button"
          :aria-pressed="shown === l.name"
          :data-test="`layout-${l.name}`"
          @click="show(shown === l.name ? null : l.name)"
        >
          {{ l.title }}
        </button>
      </div>
      <p v-if="fault" class="quiet" role="status">{{ fault }}</p>
      <p v-else-if="loading" class="quiet" role="status">Looking up who shows what…</p>
      <p v-else-if="picked" class="picked" role="status" data-test="picked-photograph">
        {{ nameOf(picked) }}
        <button type="button" class="link" data-test="leave-photograph" @click="turn(picked)">
          {{ isOut(picked) ? 'Take it back' : 'Leave it out' }}
        </button>
      </p>
    </template>
    <ul v-if="without.length" aria-label="Photographs left out">
      <li v-for="p in without" :key="p.join()">
        {{ nameOf(p) }}
        <button type="button" class="link" :aria-label="`Take back: ${nameOf(p)}`" @click="turn(p)">
          Take back
        </button>
      </li>
    </ul>
    <button :class="main ? 'main-button' : 'plain-button'" :disabled="busy" type="submit">
      {{ done ? 'Lay anew' : operation.title }}
    </button>
  </form>
</template>

<style scoped>
.layouts {
  display: grid;
  grid-template-columns: auto auto auto;
  gap: 6px;
}
.layouts button {
  white-space: nowrap;
  padding-inline: 6px;
}
.layouts button[aria-pressed='true'] {
  background: var(--ink);
  color: var(--sheet);
}
p {
  margin: 0;
}
dl {
  margin: 0;
}
dd {
  font-size: 12px;
}
.picked,
li {
  display: flex;
  justify-content: space-between;
  gap: 8px;
}
</style>
