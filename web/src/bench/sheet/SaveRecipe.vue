<script setup lang="ts">
import Dialog from 'primevue/dialog'
import InputText from 'primevue/inputtext'
import { computed, watch } from 'vue'
import { useBenchContext } from '@/bench/context'
import { savingPart } from '@/bench/sheet/saving'

/** What was done to the object, to be ticked and kept as a recipe. */
const context = useBenchContext()
const { bench } = context
const { open, title, marks, steps, saved, busy, fault, fetchSteps, save } = savingPart(context)
const titles = computed(() =>
  Object.fromEntries((bench.catalogue.value?.operations ?? []).map((o) => [o.name, o.title])),
)
const numbers = (parameters: Record<string, unknown>) =>
  Object.entries(parameters)
    .map(
      ([name, value]) =>
        `${name.replace(/_/g, ' ')} ${typeof value === 'object' ? 'by hand' : String(value)}`,
    )
    .join(' · ')
const wanted = computed(() => steps.value.filter((s) => s.wanted).length)
watch(marks, () => open.value && void fetchSteps())
</script>

<template>
  <Dialog v-model:visible="open" modal header="Save as a recipe" :style="{ width: '460px' }">
    <div v-if="saved" role="status" class="form" data-test="recipe-saved">
      <p>“{{ title }}” is among your recipes, with {{ wanted }} steps.</p>
      <div class="two">
        <RouterLink class="plain-button" :to="`/recipes?of=${saved}`">Edit it</RouterLink
        ><button class="main-button" @click="open = false">Go on here</button>
      </div>
    </div>
    <form v-else class="form" @submit.prevent="save">
      <label>Name<InputText v-model="title" autofocus maxlength="60" data-test="recipe-title" /></label>
      <label class="ticked"><input v-model="marks" type="checkbox" /> Keep what a hand marked</label>
      <ul aria-label="Steps of the recipe">
        <li v-for="(s, n) in steps" :key="n">
          <label class="ticked" :title="s.why">
            <input v-model="s.wanted" type="checkbox" data-test="recipe-step" />
            <span>
              {{ titles[s.operation] ?? s.operation }}
              <small class="quiet">{{ s.why || numbers(s.parameters) || 'as it comes' }}</small>
            </span>
          </label>
        </li>
      </ul>
      <p v-if="fault" class="fault" role="alert">{{ fault }}</p>
      <button class="main-button" :disabled="busy || !title.trim() || !wanted" data-test="keep-recipe">
        Save {{ wanted }} {{ wanted === 1 ? 'step' : 'steps' }}
      </button>
    </form>
  </Dialog>
</template>

<style scoped>
.form {
  display: flex;
  flex-direction: column;
  gap: 10px;
}
.form > label:not(.ticked) {
  display: flex;
  flex-direction: column;
  gap: 4px;
}
ul {
  list-style: none;
  margin: 0;
  padding: 0;
  max-height: 330px;
  overflow: auto;
}
li {
  padding: 3px 0;
}
small {
  display: block;
  font-size: 12px;
}
.fault {
  color: var(--oxblood);
}
.two {
  display: flex;
  justify-content: flex-end;
  gap: 8px;
}
</style>
