<script setup lang="ts">
import { useBenchContext } from '@/bench/context'
import { deliveringPart, lineOf } from '@/bench/stages/deliver/delivering'
import ParameterFields from '@/bench/worksheet/ParameterFields.vue'
import { bytes } from '@/composables/format'

/** A card for each receiver: what it gets, what it needs, and what was made for it. */
const context = useBenchContext()
const { bench } = context
const { receivers, values, chosen, open, fault, made, wanted, choose, deliver } = deliveringPart(context)
const sizeOf = (size: number) => (size < 1e6 ? `${Math.max(Math.round(size / 1e3), 1)}\u2009kB` : bytes(size))
</script>

<template>
  <p v-if="fault" class="quiet pad" role="status">{{ fault }}</p>
  <section v-if="made.length" class="made" data-test="made" aria-label="Made here">
    <h3>Made</h3>
    <p v-for="m in made" :key="m.job">
      <a class="link" :href="`/api/deliveries/${m.job}`" download data-test="take-away">{{ m.name }}</a>
      <span class="quiet num">{{ sizeOf(m.bytes) }}</span>
      <small class="quiet">{{
        m.files.length > 1 ? `${m.files.length} files: ${m.files.join(', ')}` : m.title
      }}</small>
    </p>
  </section>
  <article
    v-for="r in receivers"
    :key="r.name"
    :class="{ open: open === r.name }"
    :data-test="`receiver-${r.name}`"
  >
    <div class="head">
      <input
        type="checkbox"
        :checked="chosen.includes(r.name)"
        :aria-label="`Deliver ${r.title.toLowerCase()} together with others`"
        @change="choose(r.name)"
      />
      <button
        type="button"
        class="title"
        :aria-expanded="open === r.name"
        @click="open = open === r.name ? '' : r.name"
      >
        <b>{{ r.title }}</b>
        <span class="quiet">{{ lineOf(values[r.name] ?? {}) || r.help }}</span>
      </button>
    </div>
    <ul v-if="r.checks.length" class="checks" :aria-label="`What ${r.title.toLowerCase()} needs`">
      <li v-for="c in r.checks" :key="c.words" :class="{ fails: !c.holds }">{{ c.words }}</li>
    </ul>
    <form
      v-if="open === r.name && values[r.name]"
      class="card-form"
      :data-test="`wishes-${r.name}`"
      @submit.prevent="deliver(chosen.length ? wanted : [r.name])"
    >
      <p v-if="r.parameters.length" class="quiet">{{ r.help }}.</p>
      <ParameterFields :parameters="r.parameters" :values="values[r.name]" :titles="[]" />
      <button class="main-button" :disabled="bench.busy.value" type="submit" data-test="deliver">
        {{ chosen.length > 1 ? `Deliver to ${chosen.length}, as one .zip` : 'Deliver' }}
      </button>
    </form>
  </article>
</template>

<style scoped>
.pad {
  padding: 8px 16px;
}
article {
  border-bottom: var(--hair);
  padding: 8px 0;
}
article.open {
  background: var(--paper);
}
.head {
  display: grid;
  grid-template-columns: 16px 1fr;
  gap: 10px;
  align-items: start;
  padding: 2px 16px;
}
.head input {
  width: 16px;
  height: 16px;
  margin-top: 3px;
  accent-color: var(--verdigris);
}
.title {
  display: flex;
  flex-direction: column;
  padding: 0;
  border: 0;
  background: none;
  text-align: left;
  cursor: pointer;
}
.title b {
  font-weight: 500;
  font-size: 14px;
}
.title span {
  font-size: 12.5px;
}
.checks {
  display: flex;
  flex-wrap: wrap;
  gap: 4px;
  margin: 4px 0 4px;
  padding: 0 16px 0 42px;
  list-style: none;
}
.checks li {
  padding: 1px 8px;
  border-radius: 9px;
  background: var(--sunk);
  color: var(--verdigris);
  font-size: 12px;
}
.checks .fails {
  color: var(--ochre-ink);
}
.card-form {
  margin-top: 6px;
}
.card-form p,
.made p {
  margin: 0;
}
.made {
  padding: 10px 16px;
  border-bottom: var(--hair);
}
.made h3 {
  margin: 0 0 4px;
  font-size: 14px;
  font-weight: 500;
}
.made p {
  display: grid;
  grid-template-columns: 1fr auto;
  gap: 0 10px;
  padding: 3px 0;
}
.made small {
  font-size: 12px;
  grid-column: 1 / -1;
  overflow-wrap: anywhere;
}
</style>
