<script setup lang="ts">
import { computed, onBeforeUnmount, ref } from 'vue'
import { useBenchContext } from '@/bench/context'
import { newestReport } from '@/bench/newest'
import { wallsPart } from '@/bench/stages/mend/walls'

interface Check {
  name: string
  holds: boolean
  words: string
  place: number[] | null
  mend: string | null
}
/** What must hold before the mesh goes to a printer or an engine, each with its place and its mend. */
const props = defineProps<{ busy: boolean; main: boolean; name: string }>()
const context = useBenchContext()
const { bench, view } = context
const walls = context.part('walls', wallsPart)
const USES: Record<string, { title: string; parameter: string; ready: string }> = {
  print_check: { title: 'Printer', parameter: 'printer', ready: 'Ready to print.' },
  engine_check: { title: 'For', parameter: 'engine', ready: 'Ready for it.' },
}
const use = computed(() => USES[props.name])
const operation = computed(() => bench.catalogue.value!.operations.find((o) => o.name === props.name)!)
const asked = computed(() => operation.value.parameters.find((p) => p.name === use.value.parameter)!)
const told = newestReport<{ checks: Check[]; ready: boolean } & Record<string, string>>({ bench }, props.name)
const before = computed(() =>
  (bench.bench.value?.steps ?? []).some((s) => !s.undone && s.operation === props.name),
)
const chosen = ref(told.value?.[use.value.parameter] ?? String(asked.value.default))
/** The thinnest wall that is wanted, as the last check judged it. */
const LEAST: Record<string, number> = { 'filament-0.4': 0.8, 'filament-0.6': 1.2, resin: 0.5 }
const measurable = computed(() => props.name === 'print_check' && bench.bench.value?.mesh?.watertight)
onBeforeUnmount(walls.hide)
const titleOf = (name: string) =>
  bench.catalogue.value!.operations.find((o) => o.name === name)?.title ?? name
</script>

<template>
  <form
    class="card-form"
    :data-test="name.replace('_', '-')"
    @submit.prevent="bench.operation(name, { [use.parameter]: chosen })"
  >
    <label class="field">
      <span>{{ use.title }}</span>
      <select v-model="chosen" :data-test="use.parameter">
        <option v-for="p in asked.choices" :key="p" :value="p">{{ p.replace('-', ' ') }}</option>
      </select>
    </label>
    <div role="status">
      <p v-if="told" :class="told.ready ? 'ready' : 'fails'" data-test="print-verdict">
        {{
          told.ready
            ? use.ready
            : `Not ready: ${told.checks.filter((c) => !c.holds).length} of ${told.checks.length} do not hold.`
        }}
      </p>
      <p v-else-if="before" class="quiet">Something was changed since the last check.</p>
    </div>
    <ul v-if="told" aria-label="What must hold">
      <li v-for="check in told.checks" :key="check.name" :class="{ fails: !check.holds }">
        <span class="tick" :aria-label="check.holds ? 'holds' : 'does not hold'" role="img">{{
          check.holds ? '✓' : '×'
        }}</span>
        <span
          ><b>{{ check.name }}</b
          ><small>{{ check.words }}</small></span
        >
        <span class="acts">
          <button
            v-if="check.place"
            type="button"
            class="link"
            :aria-label="`Go there: ${check.name}`"
            @click="view.viewer.value?.flyTo(check.place)"
          >
            Go there
          </button>
          <button
            v-if="!check.holds && check.mend"
            type="button"
            class="link"
            :disabled="busy"
            @click="bench.operation(check.mend)"
          >
            {{ titleOf(check.mend) }}
          </button>
        </span>
      </li>
    </ul>
    <div v-if="measurable" class="walls">
      <button
        type="button"
        class="plain-button"
        :aria-pressed="walls.shown.value"
        data-test="walls"
        @click="walls.shown.value ? walls.hide() : walls.show(LEAST[chosen] ?? 1)"
      >
        {{ walls.loading.value ? 'Measuring walls…' : 'Walls as colours' }}
      </button>
      <small v-if="walls.shown.value" class="num"
        ><i />0 to {{ walls.range.value.toFixed(1) }}&#8201;mm</small
      >
      <small v-if="walls.fault.value" role="status">{{ walls.fault.value }}</small>
    </div>
    <button :class="main ? 'main-button' : 'plain-button'" :disabled="busy" type="submit">
      {{ told ? 'Check again' : 'Check' }}
    </button>
  </form>
</template>

<style scoped>
li {
  display: grid;
  grid-template-columns: 16px 1fr auto;
  gap: 8px;
  padding: 4px 0;
  border-top: var(--hair);
}
.tick {
  color: var(--verdigris);
}
.fails,
.fails .tick {
  color: var(--ochre-ink);
}
b {
  display: inline-block;
  font-weight: 500;
}
b::first-letter {
  text-transform: uppercase;
}
p {
  margin: 0;
}
.ready {
  color: var(--verdigris);
}
.walls {
  display: flex;
  gap: 8px;
  align-items: center;
}
.walls button {
  white-space: nowrap;
}
.walls i {
  display: inline-block;
  width: 40px;
  height: 9px;
  margin-right: 5px;
  background: linear-gradient(90deg, #b3650c, #f1ead8);
}
.acts {
  display: flex;
  flex-direction: column;
  align-items: flex-end;
}
</style>
