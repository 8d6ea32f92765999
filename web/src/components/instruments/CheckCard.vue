<script setup lang="ts">
import { computed } from 'vue'
import type { CheckView } from '@/api/client'
import CheckChart from '@/components/instruments/CheckChart.vue'
import { CHARTED, series, told } from '@/components/instruments/figures'

const props = defineProps<{
  kind: string
  title: string
  number: number
  checks: CheckView[]
  due: string
  busy: boolean
}>()
defineEmits<{ begin: [] }>()
const mine = computed(() => props.checks.filter((c) => c.kind === props.kind))
const last = computed(() => mine.value.find((c) => c.state !== 'waiting' && c.state !== 'running') ?? null)
const values = computed(() => series(mine.value, props.kind))
const when = (c: CheckView) =>
  new Date(c.created).toLocaleString('en-GB', {
    day: 'numeric',
    month: 'short',
    hour: '2-digit',
    minute: '2-digit',
  })
</script>

<template>
  <section class="card" :data-test="`check-${kind}`">
    <header>
      <h3>{{ title }}</h3>
      <span v-if="due" class="due">{{ due.replace(`${title}: `, '') }}</span>
      <button class="plain-button" :disabled="busy" :data-test="`begin-${kind}`" @click="$emit('begin')">
        Check now <kbd class="key">{{ number }}</kbd>
      </button>
    </header>
    <p v-if="last" :class="{ bad: !last.ok }" :data-test="`verdict-${kind}`">
      <b>{{ last.state === 'done' ? (last.ok ? 'Good.' : 'Not good.') : 'Not done.' }}</b> {{ last.words }}
      <span class="quiet">{{ when(last) }}{{ last.who ? `, ${last.who}` : '' }}</span>
    </p>
    <p v-else class="quiet">Not checked yet.</p>
    <div v-if="values.length" class="told">
      <dl v-if="last" class="figures">
        <template v-for="[label, value] in told(last)" :key="label"
          ><dt>{{ label }}</dt>
          <dd class="num">{{ value }}</dd></template
        >
      </dl>
      <figure>
        <figcaption class="quiet">
          {{ CHARTED[kind].title }}, {{ values.length === 1 ? 'one check' : `${values.length} checks` }}
        </figcaption>
        <CheckChart :values="values" :title="CHARTED[kind].title" :unit="CHARTED[kind].unit" />
      </figure>
    </div>
  </section>
</template>

<style scoped>
.card {
  padding: 12px 14px;
  background: var(--sheet);
  border: var(--hair);
  display: flex;
  flex-direction: column;
  gap: 8px;
}
header {
  display: flex;
  gap: 12px;
  align-items: center;
}
header button {
  margin-left: auto;
}
h3 {
  font-size: 15px;
}
.due {
  color: var(--ochre-ink);
  font: 500 13px var(--cond);
}
.bad b {
  color: var(--ochre-ink);
}
.told .figures {
  align-content: start;
}
.told {
  display: grid;
  grid-template-columns: minmax(0, 1fr) minmax(0, 1fr);
  gap: 20px;
}
figure {
  margin: 0;
}
</style>
