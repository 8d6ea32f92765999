<script setup lang="ts">
import { computed, ref } from 'vue'
import type { ShelfItem } from '@/api/client'
import { bytes, mm } from '@/composables/format'

/** One object on the shelf; height is that of its picture in pixels. */
const props = defineProps<{ item: ShelfItem; height: number }>()
/** The address of the picture that has come, or that none came. */
const drawn = ref('')
const words = computed(() => {
  if (!props.item.picture || drawn.value === 'failed') return 'no picture yet'
  return drawn.value === props.item.picture ? '' : 'drawing its picture…'
})
const emit = defineEmits<{ open: []; remove: []; share: [] }>()
</script>

<template>
  <article data-test="shelf-item">
    <a
      class="stand"
      :href="`/objects/${item.id}`"
      :aria-label="words ? `${item.title}, ${words}` : item.title"
      @click.prevent="emit('open')"
    >
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
      <b>{{ item.title }}</b><span v-if="item.role === 'owner'" class="acts"
        ><button class="link" :aria-label="`Share ${item.title}`" @click="emit('share')">Share</button>
        <button class="link loss" :aria-label="`Delete ${item.title}`" @click="emit('remove')">
          Delete
        </button></span
      ><span v-else class="quiet whose">{{ item.owner }}, to {{ item.role }}</span>
    </div>
    <div class="line quiet">
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
.acts {
  opacity: 0;
}
article:hover .acts,
article:focus-within .acts {
  opacity: 1;
}
.loss {
  color: var(--oxblood);
}
</style>
