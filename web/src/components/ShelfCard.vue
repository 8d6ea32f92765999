<script setup lang="ts">
import { computed, ref } from 'vue'
import type { ShelfItem } from '@/api/client'
import { bytes, mm } from '@/composables/format'

/** One object on the shelf; height is that of its picture in pixels. */
const props = withDefaults(
  defineProps<{ item: ShelfItem; height: number; choosing?: boolean; chosen?: boolean }>(),
  {
    choosing: false,
    chosen: false,
  },
)
/** The address of the picture that has come, or that none came. */
const drawn = ref('')
const words = computed(() => {
  if (!props.item.picture || drawn.value === 'failed') return 'no picture yet'
  return drawn.value === props.item.picture ? '' : 'drawing its picture…'
})
const emit = defineEmits<{
  open: []
  remove: []
  share: []
  choose: []
  tags: [string[]]
  archive: [boolean]
  duplicate: []
  back: []
}>()
const more = ref(false)
const written = ref('')
function begin() {
  more.value = !more.value
  written.value = props.item.tags.join(', ')
}
function keepTags() {
  more.value = false
  emit(
    'tags',
    written.value
      .split(',')
      .map((t) => t.trim())
      .filter(Boolean),
  )
}
const day = (at: string | null) =>
  at ? new Date(at).toLocaleDateString('en-GB', { day: 'numeric', month: 'short' }) : ''
</script>

<template>
  <article data-test="shelf-item">
    <a
      class="stand"
      :href="`/objects/${item.id}`"
      :aria-label="words ? `${item.title}, ${words}` : item.title"
      @click.prevent="choosing ? emit('choose') : !item.deleted && emit('open')"
    >
      <span v-if="choosing" class="tick" :class="{ chosen }" aria-hidden="true">{{ chosen ? '✓' : '' }}</span>
      <img
        v-if="item.picture && drawn !== 'failed'"
        v-show="drawn === item.picture"
        :src="item.picture"
        :style="{ height: `${height}px` }"
        alt=""
        @load="drawn = item.picture"
        @error="drawn = 'failed'"
      />
      <span v-if="words" class="nothing">{{ words }}</span>
    </a>
    <div class="board" />
    <div class="line">
      <b>{{ item.title }}</b><span v-if="item.deleted" class="acts always"
        ><button
          class="link"
          data-test="take-back"
          :aria-label="`Take ${item.title} back`"
          @click="emit('back')"
        >
          Take back
        </button></span
      ><span v-else-if="item.role === 'owner'" class="acts"
        ><button class="link" :aria-label="`Share ${item.title}`" @click="emit('share')">Share</button>
        <button
          class="link"
          :aria-label="`More for ${item.title}`"
          :aria-expanded="more"
          data-test="shelf-more"
          @click="begin"
        >
          More
        </button></span
      ><span v-else class="quiet whose">{{ item.owner }}, to {{ item.role }}</span>
    </div>
    <div v-if="more" class="more" data-test="shelf-acts">
      <form @submit.prevent="keepTags">
        <input
          v-model="written"
          class="text-entry"
          placeholder="Tags, with commas"
          :aria-label="`Tags of ${item.title}`"
          data-test="tags"
          @keydown.escape.stop="more = false"
        /><button class="link">Keep</button>
      </form>
      <span class="row">
        <button class="link" data-test="duplicate" @click="((more = false), emit('duplicate'))">
          Duplicate
        </button>
        <button class="link" data-test="archive" @click="((more = false), emit('archive', !item.archived))">
          {{ item.archived ? 'Bring back' : 'Archive' }}
        </button>
        <button
          class="link loss"
          :aria-label="`Delete ${item.title}`"
          data-test="throw-away"
          @click="((more = false), emit('remove'))"
        >
          Delete
        </button>
      </span>
    </div>
    <p v-if="item.tags.length" class="tags">
      <span v-for="t in item.tags" :key="t">{{ t }}</span>
    </p>
    <p v-if="item.deleted" class="quiet">thrown away, gone for good on {{ day(item.gone) }}</p>
    <div v-else class="line quiet">
      <span>{{ item.state }}</span><span class="num"
        ><span v-if="item.room_bytes" title="Room it takes on the server">{{ bytes(item.room_bytes) }}</span
        >{{ item.size_mm ? ` · ${mm(item.size_mm, 0)}` : '' }}</span
      >
    </div>
    <div class="dashes">
      <i v-for="s in item.stages" :key="s.name" :class="[s.state, { look: s.findings }]" :title="s.name" />
    </div>
  </article>
</template>

<style scoped>
.stand {
  height: 172px;
  display: flex;
  align-items: flex-end;
  justify-content: center;
}
.stand img {
  filter: drop-shadow(0 5px 5px rgb(40 30 10 / 25%));
  margin-bottom: -3px;
}
.nothing {
  color: var(--ink-3);
  padding-bottom: 30px;
}
.board {
  height: 7px;
  background: #d9ccb0;
  border-bottom: 4px solid #ece3d2;
  margin-bottom: 8px;
}
[data-theme='dark'] .board {
  background: #4a4335;
  border-color: #332f27;
}
.line {
  display: flex;
  justify-content: space-between;
  gap: 8px;
}
.line b {
  font: 600 15px var(--cond);
}
.dashes {
  display: grid;
  grid-template-columns: repeat(8, 1fr);
  gap: 4px;
  margin-top: 7px;
}
.dashes i {
  height: 4px;
  border-radius: 2px;
  background: var(--rule);
}
.dashes .done {
  background: var(--ink);
}
.dashes .current {
  background: var(--verdigris);
}
.dashes .look {
  background: var(--ochre);
}
.stand {
  position: relative;
}
.tick {
  position: absolute;
  left: 10px;
  top: 10px;
  width: 22px;
  height: 22px;
  border-radius: 50%;
  border: 1.5px solid var(--ink-3);
  background: var(--sheet);
  text-align: center;
  line-height: 19px;
}
.tick.chosen {
  background: var(--verdigris);
  border-color: var(--verdigris);
  color: var(--on-verdigris);
}
.tags {
  display: flex;
  flex-wrap: wrap;
  gap: 4px;
  margin: 2px 0;
}
.tags span {
  padding: 0 7px;
  border: var(--hair);
  border-radius: 9px;
  font-size: 12px;
  color: var(--ink-2);
}
.more {
  padding: 4px 0;
}
.more form,
.more .row {
  display: flex;
  gap: 12px;
}
.more input {
  flex: 1;
  min-width: 0;
}
.acts {
  display: flex;
  gap: 10px;
  opacity: 0;
}
.acts.always,
article:hover .acts,
article:focus-within .acts {
  opacity: 1;
}
.loss {
  color: var(--oxblood);
}
</style>
