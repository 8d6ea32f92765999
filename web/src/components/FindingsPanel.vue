<script setup lang="ts">
import { computed, nextTick, ref, watch } from 'vue'
import type { AcceptedFinding, Finding, StageName } from '@/api/client'

const props = withDefaults(
  defineProps<{
    findings: Finding[]
    accepted?: AcceptedFinding[]
    stage: StageName
    titles: Record<string, string>
    busy: boolean
    /** Somebody who looks only accepts nothing. */
    mayAccept?: boolean
    empty: boolean
    /** Whether the closer look behind the steps is done. */
    looked?: boolean
    /** The name of the finding that was gone to last. */
    at?: string
  }>(),
  { accepted: () => [], mayAccept: false, looked: true, at: '' },
)
const emit = defineEmits<{
  show: [Finding]
  mend: [string]
  go: [StageName]
  accept: [Finding, string]
  mind: [AcceptedFinding]
}>()
const accepting = ref('')
const word = ref('')
const shownAccepted = ref(false)
const list = ref<HTMLElement>()
/** Those of the stage first, then in the order of the work. */
const ordered = computed(() => [
  ...props.findings.filter((f) => f.stage === props.stage),
  ...props.findings.filter((f) => f.stage !== props.stage),
])
watch(
  () => props.at,
  () => nextTick(() => list.value?.querySelector('.at')?.scrollIntoView({ block: 'nearest' })),
)
function begin(f: Finding) {
  accepting.value = f.name
  word.value = ''
  void nextTick(() => list.value?.querySelector<HTMLInputElement>('.accepting input')?.focus())
}
function accept(f: Finding) {
  if (!word.value.trim()) return
  emit('accept', f, word.value.trim())
  accepting.value = ''
}
</script>

<template>
  <section ref="list" class="findings" aria-label="Findings" tabindex="0">
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
    <article
      v-for="f in ordered"
      :key="f.name"
      :class="{ here: f.stage === stage, at: f.name === at }"
      data-test="finding"
    >
      <div class="top">
        <b>{{ f.title }}</b><span class="num">{{ f.figure }}</span>
      </div>
      <p>{{ f.detail }}</p>
      <form v-if="accepting === f.name" class="accepting" @submit.prevent="accept(f)">
        <input
          v-model="word"
          class="text-entry"
          maxlength="200"
          placeholder="Why it may stay"
          aria-label="Why it may stay"
          data-test="accept-word"
          @keydown.escape.stop="accepting = ''"
        /><button class="link" :disabled="!word.trim()" data-test="accept-finding">Accept</button>
      </form>
      <div v-else class="acts">
        <button v-if="f.operation" class="link" :disabled="busy" @click="emit('mend', f.operation)">
          {{ titles[f.operation] ?? f.operation }}
        </button>
        <button v-if="f.place" class="link" @click="emit('show', f)">Show</button>
        <button v-if="f.stage !== stage" class="link" @click="emit('go', f.stage as StageName)">
          Go there
        </button>
        <button v-if="mayAccept" class="link accept" data-test="begin-accept" @click="begin(f)">
          Accept…
        </button>
      </div>
    </article>
    <p v-if="!looked && !empty" class="none" role="status" data-test="looking">Looking closer…</p>
    <div v-if="accepted.length" class="kept">
      <button
        class="link"
        :aria-expanded="shownAccepted"
        data-test="accepted"
        @click="shownAccepted = !shownAccepted"
      >
        {{ accepted.length }} accepted
      </button>
      <template v-if="shownAccepted">
        <article v-for="a in accepted" :key="a.id" data-test="accepted-finding">
          <div class="top">
            <span>{{ a.title }}</span><span class="num">{{ a.figure }}</span>
          </div>
          <p>“{{ a.word }}”{{ a.who ? `, ${a.who}` : '' }}</p>
          <div class="acts">
            <button v-if="mayAccept" class="link" @click="emit('mind', a)">Take back</button>
          </div>
        </article>
      </template>
    </div>
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
article.at {
  box-shadow: inset 0 0 0 1.5px var(--verdigris);
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
  flex-wrap: wrap;
  gap: 0 14px;
}
.accept {
  color: var(--ink-2);
}
.accepting {
  display: flex;
  gap: 8px;
}
.accepting input {
  flex: 1;
  min-width: 0;
}
.kept {
  padding: 4px 0;
  border-top: var(--hair);
}
.kept > button {
  padding: 4px 14px;
}
</style>
