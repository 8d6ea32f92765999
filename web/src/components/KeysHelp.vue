<script setup lang="ts">
import Dialog from 'primevue/dialog'
import { computed } from 'vue'

const props = defineProps<{ actions: { id: string; title: string; group: string; key?: string }[] }>()
const open = defineModel<boolean>('open', { required: true })
const groups = computed(() => {
  const out = new Map<string, typeof props.actions>()
  for (const a of props.actions.filter((x) => x.key)) out.set(a.group, [...(out.get(a.group) ?? []), a])
  return [...out]
})
</script>

<template>
  <Dialog v-model:visible="open" modal header="Keys" :style="{ width: '640px' }" dismissable-mask>
    <div class="columns">
      <section v-for="[group, list] in groups" :key="group">
        <h3>{{ group }}</h3>
        <div v-for="a in list" :key="a.id" class="row">
          <span>{{ a.title }}</span><kbd class="key">{{ a.key }}</kbd>
        </div>
      </section>
    </div>
  </Dialog>
</template>

<style scoped>
.columns {
  columns: 2;
  column-gap: 32px;
}
section {
  break-inside: avoid;
  margin-bottom: 12px;
}
h3 {
  font-size: 13.5px;
  margin-bottom: 3px;
}
.row {
  display: flex;
  justify-content: space-between;
  padding: 2px 0;
}
</style>
