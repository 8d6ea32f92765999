<script setup lang="ts">
import { onBeforeUnmount, onMounted } from 'vue'
import { useRoute } from 'vue-router'
import ParameterFields from '@/bench/worksheet/ParameterFields.vue'
import RecipeSteps from '@/components/RecipeSteps.vue'
import { useRecipes } from '@/composables/useRecipes'
import { useActions } from '@/stores/actions'

const route = useRoute()
const actions = useActions()
const editor = useRecipes()
const {
  catalogue,
  recipes,
  recipe,
  chosen,
  title,
  help,
  steps,
  judged,
  said,
  busy,
  fault,
  fixed,
  changed,
  right,
} = editor
const { choose, makeOwn, begin, save, remove, share, bring, move, valuesOf, numbers, unmark } = editor
const withdraw = actions.offer([
  { id: 'new-recipe', title: 'New recipe', group: 'Recipes', key: 'N', run: begin },
  {
    id: 'save',
    title: 'Save the recipe',
    group: 'Recipes',
    key: 'Ctrl+S',
    enabled: () => changed.value && right.value && !busy.value,
    run: () => void save(),
  },
])
onMounted(() => editor.start(String(route.query.of ?? '')))
onBeforeUnmount(withdraw)
</script>

<template>
  <main class="page">
    <aside aria-label="Recipes">
      <h1>Recipes</h1>
      <template v-for="own in [false, true]" :key="String(own)">
        <h2>{{ own ? 'Your own' : 'Shipped' }}</h2>
        <p v-if="own && !recipes.some((r) => r.own)" class="quiet">
          None yet. Make one here, or from the steps of a bench.
        </p>
        <button
          v-for="r in recipes.filter((x) => x.own === own)"
          :key="r.name"
          class="entry"
          :aria-pressed="r.name === chosen"
          data-test="recipe"
          @click="choose(r.name)"
        >
          <b>{{ r.title }}</b><small>{{ r.steps.length }} steps</small>
        </button>
      </template>
      <div class="bring">
        <button class="plain-button" @click="begin">New recipe</button>
        <label class="plain-button"
          >Bring one in<input
            type="file"
            accept=".json,application/json"
            data-test="recipe-file"
            @change="bring"
        /></label>
      </div>
    </aside>
    <section v-if="catalogue" class="sheet" aria-label="Recipe">
      <p v-if="fault" class="fault" role="alert">{{ fault }}</p>
      <header>
        <div class="names">
          <template v-if="fixed">
            <h2>{{ title }}</h2>
            <p class="quiet">{{ help }}</p>
          </template>
          <template v-else>
            <input
              v-model="title"
              class="text-entry title"
              maxlength="60"
              placeholder="Name"
              aria-label="Name"
              data-test="edit-title"
            />
            <input
              v-model="help"
              class="text-entry"
              maxlength="200"
              placeholder="What it is for"
              aria-label="What it is for"
            />
          </template>
        </div>
        <button v-if="fixed" class="plain-button" data-test="make-own" @click="makeOwn">
          Make one of my own
        </button>
        <template v-else>
          <button v-if="recipe?.own" class="plain-button loss" data-test="delete-recipe" @click="remove">
            Delete
          </button>
          <button
            class="main-button"
            :disabled="busy || !changed || !right"
            data-test="save-own"
            @click="save"
          >
            Save
          </button>
        </template>
        <button class="plain-button" :disabled="!steps.length" @click="share">As a file</button>
      </header>
      <p v-if="said" role="status" class="quiet">{{ said }}</p>
      <RecipeSteps
        :steps="steps"
        :judged="judged"
        :operations="catalogue.operations"
        :fixed="fixed"
        @move="move"
        @remove="(n) => steps.splice(n, 1)"
        @unmark="unmark"
        @add="(operation) => steps.push({ operation, parameters: {} })"
      >
        <template #default="{ step, operation }">
          <p class="quiet">{{ operation?.help }}</p>
          <fieldset :disabled="fixed" class="card-form fields">
            <ParameterFields :parameters="numbers(step.operation)" :values="valuesOf(step)" :titles="[]" />
          </fieldset>
        </template>
      </RecipeSteps>
      <p class="quiet">Run it on one object from its bench, or on many at once from the shelf.</p>
    </section>
  </main>
</template>

<style scoped>
.page {
  display: grid;
  grid-template-columns: 240px minmax(0, 1fr);
  gap: 32px;
  padding: 26px 32px 40px;
  max-width: 1240px;
  margin: 0 auto;
}
h1 {
  font-size: 26px;
}
aside h2 {
  font-size: 14px;
  margin: 16px 0 4px;
}
.entry {
  display: flex;
  justify-content: space-between;
  align-items: baseline;
  width: 100%;
  padding: 6px 10px;
  border: 0;
  border-radius: 6px;
  background: none;
  text-align: left;
  cursor: pointer;
}
.entry b {
  font-weight: 500;
}
.entry[aria-pressed='true'] {
  background: var(--ink);
  color: var(--sheet);
}
.entry small {
  opacity: 0.85;
  font: 11.5px var(--mono);
}
.bring {
  display: flex;
  gap: 8px;
  margin-top: 18px;
}
.bring label {
  position: relative;
}
.bring input {
  position: absolute;
  inset: 0;
  opacity: 0;
  width: 100%;
  cursor: pointer;
}
.sheet {
  display: flex;
  flex-direction: column;
  gap: 12px;
}
header {
  display: flex;
  align-items: flex-start;
  gap: 8px;
}
.names {
  flex: 1;
  display: flex;
  flex-direction: column;
  gap: 6px;
}
.names h2 {
  font-size: 20px;
}
.title {
  font: 600 18px var(--cond);
}
.fields {
  border: 0;
  margin: 6px 0 0;
  padding: 0;
}
.fault,
.loss {
  color: var(--oxblood);
}
</style>
