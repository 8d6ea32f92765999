<script setup lang="ts">
import { computed, nextTick, ref, watch } from 'vue'
import { useBenchContext } from '@/bench/context'
import { STAGES, stageOf } from '@/bench/stages'
import OperationCard from '@/bench/worksheet/OperationCard.vue'
import RecipeBar from '@/bench/worksheet/RecipeBar.vue'
import { count, mm } from '@/composables/format'

const context = useBenchContext()
const { bench, view, stage, goTo } = context
const { bench: shown, catalogue, busy, doneBy } = bench
const recipeBar = ref<InstanceType<typeof RecipeBar>>()
const openOperation = ref('')

const definition = computed(() => stageOf(stage.value))
const here = computed(() =>
  (catalogue.value?.operations ?? []).filter(
    (o) => o.stage === stage.value && !definition.value.within?.includes(o.name),
  ),
)
const next = computed(() => STAGES[STAGES.indexOf(definition.value) + 1])
/** The operations that recipes go through: of those the next one is suggested, the others are there when wanted. */
const usual = computed(
  () => new Set((catalogue.value?.recipes ?? []).flatMap((r) => r.steps.map((s) => s.operation))),
)
const firstOpen = computed(
  () =>
    here.value.find((o) => usual.value.has(o.name) && !doneBy.value[o.name])?.name ??
    here.value[0]?.name ??
    '',
)
watch([stage, firstOpen], ([now], [before]) => {
  // A card that is worked in by hand stays open after its step, and so does one that no recipe goes through.
  const own = now === before && openOperation.value && !usual.value.has(openOperation.value)
  if (!own) openOperation.value = firstOpen.value
})
const list = ref<HTMLElement>()
watch(stage, () => nextTick(() => list.value?.scrollTo?.({ top: 0 })))
/** Open a card that is asked for, or with nothing the one that is open is folded. */
function open(name: string) {
  openOperation.value = name
  void nextTick(() => list.value?.querySelector('article.open')?.scrollIntoView?.({ block: 'nearest' }))
}
watch(view.tool, (tool) => tool?.card && open(tool.card))
watch(view.card, (name) => {
  if (name) open(name)
  view.card.value = ''
})
const passes = computed(() => shown.value?.passes ?? [])
/** What an operation still needs, in the server's words. */
const missing = computed(() => {
  const has: Record<string, boolean> = {
    passes: passes.value.length > 0,
    points: passes.value.some((p) => p.points),
    placed: passes.value.some((p) => p.placed),
    volume: shown.value?.fused ?? false,
    mesh: !!shown.value?.mesh,
    takes: !!shown.value?.takes.length,
    texture: !!shown.value?.mesh?.textured,
  }
  return Object.fromEntries(
    here.value.map((o) => [o.name, o.needs.find((need) => !has[need.name])?.sentence ?? '']),
  )
})
defineExpose({ runRecipe: () => recipeBar.value?.run() })
</script>

<template>
  <aside class="right" aria-label="Worksheet">
    <header>
      <h2>{{ definition.question }}</h2>
      <p class="quiet">
        {{ passes.length }} {{ passes.length === 1 ? 'pass' : 'passes'
        }}<template v-if="shown?.mesh">
          · {{ count(shown.mesh.triangles) }} triangles · {{ mm(Math.max(...shown.mesh.size_mm)) }}</template
        >
      </p>
    </header>
    <div ref="list" class="cards" tabindex="0" role="region" aria-label="Operations of the stage">
      <component :is="panel" v-for="(panel, n) in definition.panels ?? []" :key="n" />
      <OperationCard
        v-for="o in bench.capturing.value ? [] : here"
        :key="`${o.name} ${bench.changed.value?.id ?? ''}`"
        :operation="o"
        :title="definition.titles?.[o.name] ?? o.title"
        :titles="passes.map((p) => p.title)"
        :body="definition.cards?.[o.name]"
        :open="openOperation === o.name"
        :done="doneBy[o.name] ?? null"
        :busy="busy"
        :missing="missing[o.name]"
        :main="stage !== 'capture' && o.name === firstOpen"
        @open="open(openOperation === o.name ? '' : o.name)"
        @run="(v) => bench.operation(o.name, v)"
      />
    </div>
    <RecipeBar
      v-if="catalogue && !bench.capturing.value"
      ref="recipeBar"
      :recipes="bench.recipes.value.length ? bench.recipes.value : catalogue.recipes"
      :titles="Object.fromEntries(catalogue.operations.map((o) => [o.name, o.title]))"
      :busy="busy"
      :ready="passes.length > 0"
      :main="false"
      @run="bench.recipe"
    />
    <footer>
      <span class="quiet">{{ next ? `Then: ${next.title}` : 'The last stage' }}</span><button
        class="plain-button"
        :disabled="!next"
        @click="next && goTo(next.name)"
      >
        Next stage
      </button>
    </footer>
  </aside>
</template>

<style scoped>
.right {
  display: flex;
  flex-direction: column;
  min-width: 0;
  min-height: 0;
  border-left: var(--hair);
  background: var(--sheet);
}
header {
  padding: 14px 16px 10px;
  border-bottom: var(--hair);
}
h2 {
  font-size: 20px;
  line-height: 1.15;
}
.cards {
  flex: 1;
  min-height: 0;
  overflow: auto;
}
footer {
  display: flex;
  justify-content: space-between;
  align-items: center;
  padding: 10px 16px;
  border-top: var(--hair);
}
</style>
