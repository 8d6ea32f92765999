<script setup lang="ts">
import type { StageName, StageView } from '@/api/client'

const props = defineProps<{
  stages: StageView[]
  titles: { name: StageName; title: string }[]
  current: StageName
}>()
const emit = defineEmits<{ pick: [StageName] }>()
const titleOf = (name: StageName) => props.titles.find((t) => t.name === name)?.title ?? name
</script>

<template>
  <nav class="thread" aria-label="Stages">
    <button
      v-for="(stage, n) in stages"
      :key="stage.name"
      :class="[stage.state, { here: stage.name === current }]"
      :aria-current="stage.name === current ? 'step' : undefined"
      :title="`${titleOf(stage.name)} (Alt+${n + 1})`"
      @click="emit('pick', stage.name)"
    >
      <span class="line" /><span class="knot" />
      <span class="word"
        >{{ titleOf(stage.name) }}<em v-if="stage.findings">{{ stage.findings }}</em></span
      >
    </button>
  </nav>
</template>

<style scoped>
.thread {
  display: flex;
}
button {
  position: relative;
  width: 72px;
  padding: 0;
  border: 0;
  background: none;
  cursor: pointer;
  text-align: center;
  height: 46px;
}
.line {
  position: absolute;
  top: 12px;
  left: -50%;
  width: 100%;
  height: 2px;
  background: var(--rule);
}
button:first-child .line {
  display: none;
}
.done .line,
.here .line {
  background: var(--ink);
}
.knot {
  position: absolute;
  top: 6px;
  left: 50%;
  width: 13px;
  height: 13px;
  margin-left: -6.5px;
  border-radius: 50%;
  border: 1.5px solid var(--ink-3);
  background: var(--sheet);
}
.done .knot {
  background: var(--ink);
  border-color: var(--ink);
}
.here .knot {
  width: 21px;
  height: 21px;
  margin-left: -10.5px;
  top: 2px;
  border: 4px solid var(--verdigris);
  background: var(--sheet);
}
.here.done .knot {
  background: var(--ink);
}
.word {
  position: absolute;
  left: 0;
  right: 0;
  top: 26px;
  font: 500 13px var(--cond);
}
.here .word {
  font-weight: 600;
}
em {
  font: 600 11.5px var(--cond);
  font-style: normal;
  margin-left: 3px;
  padding: 0 5px;
  border-radius: 8px;
  background: var(--ochre);
  color: #1d1503;
}
</style>
