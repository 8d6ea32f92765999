<script setup lang="ts">
import { computed } from 'vue'
import { useBenchContext } from '@/bench/context'
import SightPhoto from '@/bench/stages/capture/SightPhoto.vue'
import { UNANSWERED_KEY, unansweredPart } from '@/bench/stages/clean/unanswered'
import { percent } from '@/composables/format'

/** Where the surface gave no answer, on the photograph of each frame: why, and what helps. */
const { open, pass, frame, passes, told, photo, loading, fault, step } = unansweredPart(useBenchContext())
const framed = computed(() => passes.value.map((p, n) => ({ ...p, n })).filter((p) => !p.points))
const signs = { dark: '╲', glossy: '╱', clear: '╱' } as Record<string, string>
</script>

<template>
  <section v-if="framed.length" :class="{ open }" data-test="unanswered">
    <button class="head" :aria-expanded="open" @click="open = !open">
      <span>Dark and shiny</span>
      <kbd class="key">{{ UNANSWERED_KEY }}</kbd>
      <small>Where the surface gave no answer, why, and what helps</small>
    </button>
    <div v-if="open" class="body">
      <div class="which">
        <select v-model="pass" class="text-entry" aria-label="Pass">
          <option v-for="p in framed" :key="p.title" :value="p.n">{{ p.title }}</option>
        </select>
        <button class="plain-button" aria-label="The frame before" @click="step(-1)">◂</button>
        <span class="num">{{ frame + 1 }} / {{ told?.frames ?? '…' }}</span>
        <button class="plain-button" aria-label="The next frame" data-test="next-frame" @click="step(1)">
          ▸
        </button>
      </div>
      <p v-if="fault" class="fault" role="alert">{{ fault }}</p>
      <p v-else-if="told?.why" class="quiet" role="status">{{ told.why }}</p>
      <template v-else-if="told">
        <SightPhoto
          v-if="photo"
          v-bind="photo"
          :says="`${percent(told.lost)} without an answer`"
          label="Photograph of the frame; what gave no answer is hatched"
        />
        <ul role="status">
          <li v-for="r in told.reasons" :key="r.name">
            <i :class="r.name" aria-hidden="true">{{ signs[r.name] ?? '∴' }}</i>
            <b>{{ r.words }}</b> <span class="num">{{ percent(r.share) }}</span>
            <p>{{ r.advice }}</p>
          </li>
          <li v-if="!told.reasons.length">All that this frame looked at gave an answer.</li>
        </ul>
      </template>
      <p v-else-if="loading" class="quiet" role="status">Looking at the frame…</p>
    </div>
  </section>
</template>

<style scoped>
section {
  border-bottom: var(--hair);
}
section.open {
  background: var(--paper);
}
.head {
  display: grid;
  grid-template-columns: 1fr auto;
  gap: 2px 8px;
  width: 100%;
  padding: 10px 16px;
  border: 0;
  background: none;
  text-align: left;
  font-weight: 500;
  cursor: pointer;
}
.head small {
  grid-column: 1 / -1;
  font-weight: 400;
  font-size: 12.5px;
  color: var(--ink-2);
}
.body {
  display: grid;
  gap: 8px;
  padding: 0 16px 12px;
}
.which {
  display: grid;
  grid-template-columns: 1fr auto auto auto;
  gap: 6px;
  align-items: center;
}
ul {
  list-style: none;
  margin: 0;
  padding: 0;
}
li {
  padding: 3px 0;
}
li b {
  font-weight: 500;
}
li .num {
  float: right;
}
li p {
  margin: 1px 0 0 18px;
  font-size: 12.5px;
  color: var(--ink-2);
}
i {
  display: inline-block;
  width: 14px;
  font-style: normal;
  font-weight: 700;
  color: var(--ochre-ink);
}
i.glossy,
i.clear {
  color: var(--mark);
}
</style>
