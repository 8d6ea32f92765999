<script setup lang="ts">
import type { Finding, StageName } from '@/api/client'

defineProps<{
  findings: Finding[]
  stage: StageName
  titles: Record<string, string>
  busy: boolean
  empty: boolean
}>()
const emit = defineEmits<{ show: [number[]]; mend: [string]; go: [StageName] }>()
</script>

<template>
  <section class="findings" aria-label="Findings" tabindex="0">
    <header>
      <h2>Findings</h2>
      <span class="quiet"
        >{{ findings.filter((f) => f.stage === stage).length }} here · {{ findings.length }} in all</span
      >
    </header>
    <p v-if="!findings.length" class="none">
      {{
        empty
          ? 'Nothing to judge yet. Capture or import a pass.'
          : 'Nothing is wrong that the program can see.'
      }}
    </p>
    <article v-for="(f, n) in findings" :key="n" :class="{ here: f.stage === stage }" data-test="finding">
      <div class="top">
        <b>{{ f.title }}</b><span class="num">{{ f.figure }}</span>
      </div>
      <p>{{ f.detail }}</p>
      <div class="acts">
        <button v-if="f.operation" class="link" :disabled="busy" @click="emit('mend', f.operation)">
          {{ titles[f.operation] ?? f.operation }}
        </button>
        <button v-if="f.place" class="link" @click="emit('show', f.place)">Show</button>
        <button v-if="f.stage !== stage" class="link" @click="emit('go', f.stage as StageName)">
          Go there
        </button>
      </div>
    </article>
  </section>
</template>

<style scoped>
.findings {
  flex: 1;
  min-height: 0;
  overflow: auto;
}
header {
  display: flex;
  justify-content: space-between;
  align-items: baseline;
  padding: 12px 14px 6px;
  font-size: 12px;
}
h2 {
  font-size: 14px;
}
.none {
  padding: 6px 14px;
  color: var(--ink-2);
}
article {
  padding: 9px 14px 8px;
  border-left: 3px solid transparent;
}
article.here {
  background: var(--sheet);
  border-left-color: var(--ochre);
}
.top {
  display: flex;
  justify-content: space-between;
  gap: 8px;
}
.top b {
  font-weight: 500;
}
article p {
  color: var(--ink-2);
  font-size: 12.5px;
  margin: 2px 0 4px;
}
.acts {
  display: flex;
  gap: 14px;
}
</style>
