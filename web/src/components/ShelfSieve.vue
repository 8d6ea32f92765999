<script setup lang="ts">
import { computed } from 'vue'
import { SIZES, type Sifted, type Wish } from '@/lib/sift'

/** Search, sieve and order of the shelf. */
const props = defineProps<{ items: Sifted[]; count: number }>()
const wish = defineModel<Wish>({ required: true })
const owners = computed(() => [...new Set(props.items.map((i) => i.owner || 'mine'))].sort())
const tags = computed(() =>
  [...new Set(props.items.flatMap((i) => i.tags))].sort((a, b) => a.localeCompare(b)),
)
const archived = computed(() => props.items.filter((i) => i.archived && !i.deleted).length)
const thrown = computed(() => props.items.filter((i) => i.deleted).length)
const set = (part: Partial<Wish>) => (wish.value = { ...wish.value, ...part })
const picked = (e: Event) => (e.target as HTMLSelectElement).value
const STANDINGS = {
  waiting: 'with findings',
  empty: 'not captured',
  captured: 'captured',
  surface: 'with a surface',
  ready: 'ready to deliver',
  computing: 'computing',
}
</script>

<template>
  <div class="sieve" role="search">
    <input
      id="shelf-words"
      class="text-entry words"
      type="search"
      placeholder="Name, note or tag  ( / )"
      aria-label="Search the shelf"
      data-test="shelf-words"
      :value="wish.words"
      @input="set({ words: ($event.target as HTMLInputElement).value })"
    />
    <select
      class="text-entry"
      aria-label="State"
      data-test="sift-standing"
      :value="wish.standing"
      @change="set({ standing: picked($event) })"
    >
      <option value="">Every state</option>
      <option v-for="(words, name) in STANDINGS" :key="name" :value="name">{{ words }}</option>
    </select>
    <select class="text-entry" aria-label="Size" :value="wish.size" @change="set({ size: picked($event) })">
      <option value="">Every size</option>
      <option v-for="([from, to], name) in SIZES" :key="name" :value="name">
        {{ to === Infinity ? `over ${from} mm` : from ? `${from} to ${to} mm` : `under ${to} mm` }}
      </option>
    </select>
    <select
      v-if="owners.length > 1"
      class="text-entry"
      aria-label="Owner"
      :value="wish.owner"
      @change="set({ owner: picked($event) })"
    >
      <option value="">Everybody’s</option>
      <option v-for="o in owners" :key="o" :value="o">{{ o }}</option>
    </select>
    <select
      v-if="tags.length"
      class="text-entry"
      aria-label="Tag"
      data-test="sift-tag"
      :value="wish.tag"
      @change="set({ tag: picked($event) })"
    >
      <option value="">Every tag</option>
      <option v-for="t in tags" :key="t" :value="t">{{ t }}</option>
    </select>
    <select
      class="text-entry"
      aria-label="Order"
      data-test="shelf-order"
      :value="wish.order"
      @change="set({ order: picked($event) as Wish['order'] })"
    >
      <option value="created">As they came</option>
      <option value="changed">Changed last first</option>
      <option value="title">By name</option>
      <option value="size">Largest first</option>
    </select>
    <span class="quiet shown" role="status">{{ count }} shown</span>
    <span v-if="archived || thrown || wish.where !== 'shelf'" class="where">
      <button
        v-if="wish.where !== 'shelf'"
        class="link"
        data-test="where-shelf"
        @click="set({ where: 'shelf' })"
      >
        Shelf
      </button>
      <button
        v-if="wish.where !== 'archive' && archived"
        class="link"
        data-test="where-archive"
        @click="set({ where: 'archive' })"
      >
        {{ archived }} archived
      </button>
      <button
        v-if="wish.where !== 'thrown' && thrown"
        class="link"
        data-test="where-thrown"
        @click="set({ where: 'thrown' })"
      >
        {{ thrown }} thrown away
      </button>
    </span>
  </div>
</template>

<style scoped>
.sieve {
  display: flex;
  flex-wrap: wrap;
  align-items: center;
  gap: 8px;
  margin-bottom: 18px;
}
.words {
  width: 220px;
}
.shown {
  margin-left: auto;
}
.where {
  display: flex;
  gap: 14px;
}
</style>
