<script setup lang="ts">
import Select from 'primevue/select'
import { ref, watch } from 'vue'
import type { Catalogue } from '@/api/client'

const props = defineProps<{ recipes: Catalogue['recipes']; busy: boolean; ready: boolean; main: boolean }>()
const emit = defineEmits<{ run: [string] }>()
const chosen = ref(props.recipes[0])
watch(
  () => props.recipes,
  (r) => (chosen.value ??= r[0]),
)
const run = () => chosen.value && emit('run', chosen.value.name)
defineExpose({ run })
</script>

<template>
  <section class="recipe">
    <p><b>All in one go</b> <kbd class="key">R</kbd></p>
    <div>
      <Select v-model="chosen" :options="recipes" option-label="title" size="small" aria-label="Recipe" />
      <button
        :class="main ? 'main-button' : 'plain-button'"
        :disabled="busy || !ready"
        data-test="run-recipe"
        @click="run"
      >
        Run recipe
      </button>
    </div>
    <p class="quiet">{{ chosen?.help }}</p>
  </section>
</template>

<style scoped>
.recipe {
  padding: 9px 16px;
  border-top: var(--hair);
  background: var(--paper);
}
p:first-child {
  display: flex;
  justify-content: space-between;
}
div {
  display: flex;
  gap: 8px;
  margin: 5px 0 3px;
}
div > :first-child {
  flex: 1;
}
.quiet {
  font-size: 12px;
}
</style>
