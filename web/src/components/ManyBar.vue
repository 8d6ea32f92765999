<script setup lang="ts">
import type { RecipeView } from '@/api/client'

/** Which recipe is run on the objects that are chosen. */
defineProps<{ recipes: RecipeView[]; count: number; said: string; busy: boolean }>()
const recipe = defineModel<string>({ required: true })
const emit = defineEmits<{ all: []; run: []; close: [] }>()
</script>

<template>
  <div class="many" data-test="many">
    <span v-if="said" role="status" data-test="many-said">{{ said }}</span>
    <span v-else>Choose objects by a click.</span>
    <button class="link" data-test="choose-all" @click="emit('all')">All that are shown</button>
    <label
      >Recipe
      <select v-model="recipe" class="text-entry" data-test="many-recipe">
        <option v-for="r in recipes" :key="r.name" :value="r.name">{{ r.title }}</option>
      </select></label
    >
    <button
      class="main-button"
      :disabled="busy || !count || !recipe"
      data-test="run-many"
      @click="emit('run')"
    >
      Run on {{ count }}
    </button>
    <button class="plain-button" @click="emit('close')">Done</button>
  </div>
</template>

<style scoped>
.many {
  position: sticky;
  top: 0;
  z-index: 2;
  display: flex;
  align-items: center;
  gap: 14px;
  padding: 8px 14px;
  margin-bottom: 18px;
  border-radius: 8px;
  background: var(--sheet);
  box-shadow: var(--lift);
}
.many > :first-child {
  flex: 1;
}
label {
  display: flex;
  align-items: center;
  gap: 8px;
}
</style>
