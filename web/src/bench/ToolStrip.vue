<script setup lang="ts">
import { computed } from 'vue'
import { useBenchContext } from '@/bench/context'
import { stageOf } from '@/bench/stages'

const { bench, view, stage } = useBenchContext()
const tools = computed(() => (bench.lookOnly.value ? [] : (stageOf(stage.value).tools ?? [])))
</script>

<template>
  <div v-if="tools.length" class="modes tools" role="group" aria-label="Tools of the stage">
    <button
      v-for="t in tools"
      :key="t.name"
      :aria-pressed="view.tool.value?.name === t.name"
      :title="t.hint"
      :data-test="`tool-${t.name}`"
      @click="view.use(t)"
    >
      {{ t.title }} <kbd class="key">{{ t.key }}</kbd>
    </button>
  </div>
</template>

<style scoped>
.tools {
  margin-top: 6px;
}
.tools button {
  display: flex;
  gap: 7px;
  align-items: center;
}
</style>
