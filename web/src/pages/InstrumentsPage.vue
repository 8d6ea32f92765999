<script setup lang="ts">
import Select from 'primevue/select'
import { computed, onBeforeUnmount } from 'vue'
import CheckCard from '@/components/instruments/CheckCard.vue'
import RunningCheck from '@/components/instruments/RunningCheck.vue'
import { mm } from '@/composables/format'
import { useInstruments } from '@/composables/useInstruments'
import { useActions } from '@/stores/actions'

const { stands, chosen, shown, running, busy, fault, act, begin, stop } = useInstruments()
const KINDS: Record<string, string> = {
  table: 'over a table',
  two_axis: 'over a table of two axes',
  hand: 'held by hand',
  line: 'a camera and a line of light',
}
const NO_FAULT = 'none'
const faults = computed(() => [{ name: NO_FAULT, title: 'No fault' }, ...(shown.value?.faults ?? [])])
const due = (kind: string) => shown.value?.due.find((d) => d.kind === kind)?.words ?? ''
const titleOf = (kind: string) => shown.value?.kinds.find((k) => k.name === kind)?.title ?? kind
const ready = computed(() => !!shown.value?.connected && !running.value && !busy.value)
function walk(by: number) {
  const at = stands.value.findIndex((s) => s.name === shown.value?.name)
  chosen.value = stands.value[(at + by + stands.value.length) % stands.value.length]?.name ?? ''
}
const onPage = 'Instruments'
const withdraw = useActions().offer([
  ...[1, 2, 3, 4, 5].map((n) => ({
    id: `check-${n}`,
    title: `Begin check ${n} of the instrument`,
    group: onPage,
    key: String(n),
    enabled: () => ready.value && !!shown.value?.kinds[n - 1],
    run: () => void begin(shown.value!.kinds[n - 1].name),
  })),
  {
    id: 'stop-check',
    title: 'Stop the check',
    group: onPage,
    key: 'Escape',
    enabled: () => !!running.value,
    run: () => void stop(running.value!),
  },
  { id: 'next-instrument', title: 'Next instrument', group: onPage, key: 'J', run: () => walk(1) },
  { id: 'former-instrument', title: 'Instrument before', group: onPage, key: 'K', run: () => walk(-1) },
])
onBeforeUnmount(withdraw)
</script>

<template>
  <main class="page">
    <aside aria-label="Instruments">
      <h1>Instruments</h1>
      <button
        v-for="s in stands"
        :key="s.name"
        class="stand"
        :aria-pressed="s.name === shown?.name"
        :data-test="`stand-${s.name}`"
        @click="chosen = s.name"
      >
        <i class="dot" :class="{ off: !s.connected, trouble: s.fault }" />
        <b>{{ s.title }}</b>
        <small>{{ KINDS[s.kind] }}</small>
        <small v-if="!s.connected">not connected</small>
        <small v-else-if="s.due.length" class="due">{{ s.due.length }} due</small>
        <small v-else>all checked</small>
      </button>
    </aside>
    <section v-if="shown" class="one" tabindex="0" :aria-label="shown.title">
      <p v-if="fault" role="alert" class="fault" data-test="instrument-fault">{{ fault }}</p>
      <header>
        <div>
          <h2>{{ shown.title }}</h2>
          <p class="quiet">
            {{ shown.width }} × {{ shown.height }} px · {{ mm(shown.spacing_mm, 2) }} apart at
            {{ mm(shown.standoff_mm, 0) }} · ± {{ mm(shown.noise_mm, 3) }} · {{ shown.frames_per_s }} frames/s
            · sees {{ shown.band_mm[0] }}–{{ mm(shown.band_mm[1], 0) }}, objects to
            {{ mm(shown.largest_mm, 0) }}{{ shown.infrared ? ' · infrared' : '' }}
          </p>
        </div>
        <button
          class="plain-button"
          :disabled="busy"
          data-test="connect"
          @click="act(shown.connected ? 'disconnect' : 'connect')"
        >
          {{ shown.connected ? 'Disconnect' : 'Connect' }}
        </button>
      </header>
      <div class="rows">
        <p data-test="driver">
          <template v-if="!shown.driver">Nobody drives it.</template>
          <template v-else-if="shown.driven_by_me">You drive it.</template>
          <template v-else>{{ shown.driver }} drives it; you may watch.</template>
          <template v-if="shown.asked_by && shown.driven_by_me">
            <b>{{ shown.asked_by }} asks to take it over.</b>
            <button class="link" data-test="hand-over" @click="act('hand_over')">Hand it over</button>
            <button class="link" @click="act('keep')">Keep it</button>
          </template>
          <template v-else-if="shown.asked_by"> {{ shown.asked_by }} asks to take it over.</template>
          <button
            v-else-if="shown.driver && !shown.driven_by_me"
            class="link"
            data-test="ask-over"
            @click="act('ask')"
          >
            Ask to take it over
          </button>
        </p>
        <label class="provoke"
          ><span>Stand-in: try a fault</span
          ><Select
            :model-value="shown.fault || NO_FAULT"
            :options="faults"
            option-label="title"
            option-value="name"
            size="small"
            aria-label="Fault to try"
            data-test="fault-to-try"
            @update:model-value="(f) => act('provoke', { fault: f === NO_FAULT ? '' : f })"
        /></label>
      </div>
      <RunningCheck v-if="running" :check="running" :title="titleOf(running.kind)" @stop="stop(running)" />
      <CheckCard
        v-for="(k, n) in shown.kinds"
        :key="`${shown.name} ${k.name}`"
        :kind="k.name"
        :title="k.title"
        :number="n + 1"
        :checks="shown.checks"
        :due="due(k.name)"
        :busy="!ready"
        @begin="begin(k.name)"
      />
    </section>
  </main>
</template>

<style scoped>
.page {
  height: 100%;
  display: grid;
  grid-template-columns: 256px minmax(0, 1fr);
}
aside {
  padding: 18px 14px;
  border-right: var(--hair);
  background: var(--paper);
  display: flex;
  flex-direction: column;
  gap: 6px;
}
h1 {
  font-size: 24px;
  margin: 0 2px 8px;
}
.stand {
  display: grid;
  grid-template-columns: 14px 1fr auto;
  gap: 0 8px;
  align-items: center;
  padding: 9px 10px;
  border: var(--hair);
  border-radius: var(--radius);
  background: var(--sheet);
  text-align: left;
  color: var(--ink);
  cursor: pointer;
}
.stand b {
  grid-column: 2 / -1;
  font-weight: 500;
}
.stand small {
  grid-column: 2;
  color: var(--ink-2);
  font-size: 12px;
}
.stand small + small {
  grid-column: 3;
}
.stand[aria-pressed='true'] {
  border-color: var(--ink);
}
.dot {
  width: 10px;
  height: 10px;
  border-radius: 50%;
  background: var(--verdigris);
}
.dot.trouble {
  background: var(--ochre);
}
.dot.off {
  background: none;
  border: 2px solid var(--ink-3);
}
small.due {
  color: var(--ochre-ink);
}
.one {
  min-height: 0;
  overflow: auto;
  padding: 18px 24px 24px;
  display: flex;
  flex-direction: column;
  gap: 12px;
}
.one > * {
  flex: none;
}
header {
  display: flex;
  justify-content: space-between;
  align-items: flex-start;
  gap: 18px;
}
h2 {
  font-size: 20px;
}
.rows {
  display: flex;
  justify-content: space-between;
  align-items: center;
  gap: 18px;
}
.rows .link {
  margin-left: 8px;
}
.provoke {
  display: flex;
  align-items: center;
  gap: 8px;
  color: var(--ink-2);
}
.fault {
  color: var(--oxblood);
}
</style>
