<script setup lang="ts">
import Dialog from 'primevue/dialog'
import InputText from 'primevue/inputtext'
import { computed, nextTick, ref, watch } from 'vue'

interface Item {
  id: string
  title: string
  group: string
  key?: string
  enabled?: () => boolean
  run: () => void
}
const props = defineProps<{ actions: Item[] }>()
const open = defineModel<boolean>('open', { required: true })
const words = ref('')
const at = ref(0)
const found = computed(() => {
  const parts = words.value.toLowerCase().split(/\s+/).filter(Boolean)
  return props.actions
    .filter((a) => parts.every((p) => `${a.title} ${a.group}`.toLowerCase().includes(p)))
    .slice(0, 12)
})
watch(words, () => (at.value = 0))
watch(open, (now) => {
  words.value = ''
  if (now) void nextTick(() => document.querySelector<HTMLInputElement>('#find-action')?.focus())
})
function run(a: Item | undefined) {
  if (!a || !(a.enabled?.() ?? true)) return
  open.value = false
  a.run()
}
function onKey(e: KeyboardEvent) {
  if (e.key === 'ArrowDown') at.value = Math.min(at.value + 1, found.value.length - 1)
  else if (e.key === 'ArrowUp') at.value = Math.max(at.value - 1, 0)
  else if (e.key === 'Enter') run(found.value[at.value])
  else return
  e.preventDefault()
}
</script>

<template>
  <Dialog
    v-model:visible="open"
    modal
    header="Find an action"
    :style="{ width: '520px' }"
    position="top"
    dismissable-mask
  >
    <InputText
      id="find-action"
      v-model="words"
      class="wide"
      placeholder="Name of an object or an action"
      autocomplete="off"
      @keydown="onKey"
    />
    <ul role="listbox">
      <li
        v-for="(a, n) in found"
        :key="a.id"
        role="option"
        :aria-selected="n === at"
        :class="{ at: n === at, off: !(a.enabled?.() ?? true) }"
        @click="run(a)"
        @mousemove="at = n"
      >
        <span>{{ a.title }}</span><span class="quiet">{{ a.group }}</span
        ><kbd v-if="a.key" class="key">{{ a.key }}</kbd>
      </li>
    </ul>
    <p v-if="!found.length" class="quiet">No action of that name on this page.</p>
  </Dialog>
</template>

<style scoped>
.wide {
  width: 100%;
}
ul {
  list-style: none;
  margin: 8px 0 0;
  padding: 0;
}
li {
  display: flex;
  gap: 10px;
  padding: 6px 8px;
  border-radius: 5px;
  cursor: pointer;
}
li span:first-child {
  flex: 1;
}
li.at {
  background: var(--verdigris-wash);
}
li.off {
  color: var(--ink-3);
}
</style>
