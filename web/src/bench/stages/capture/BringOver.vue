<script setup lang="ts">
import Select from 'primevue/select'
import { ref, shallowRef } from 'vue'
import { api, ask, type ShelfItem } from '@/api/client'

/** Chooses passes of another object to bring over. */
const props = defineProps<{ objectId: string; busy: boolean }>()
const emit = defineEmits<{ bring: [string, string[]] }>()
const others = shallowRef<ShelfItem[] | null>(null)
const source = ref<ShelfItem | null>(null)
const titles = ref<string[]>([])
const chosen = ref<string[]>([])

async function open() {
  const all = await ask(api.GET('/api/objects'))
  others.value = all.filter((o) => o.id !== props.objectId && o.passes > 0)
}
async function pick(object: ShelfItem) {
  const params = { path: { object_id: object.id } }
  const there = await ask(api.GET('/api/objects/{object_id}', { params }))
  titles.value = there.passes.map((p) => p.title)
  chosen.value = [...titles.value]
}
function bring() {
  if (source.value && chosen.value.length) emit('bring', source.value.id, chosen.value)
  others.value = source.value = null
  titles.value = chosen.value = []
}
</script>

<template>
  <button
    v-if="!others"
    class="link opener"
    data-test="bring-over"
    :disabled="busy"
    @click="open().catch(() => (others = []))"
  >
    Or bring passes over from another object
  </button>
  <template v-else>
    <p v-if="!others.length" class="quiet">No other object has passes yet.</p>
    <label v-else class="beside"
      ><span>From</span
      ><Select
        v-model="source"
        :options="others"
        option-label="title"
        size="small"
        placeholder="Choose an object"
        aria-label="From which object"
        data-test="other-object"
        @change="source && pick(source)"
    /></label>
    <label v-for="title in titles" :key="title" class="ticked"
      ><input v-model="chosen" type="checkbox" :value="title" /> {{ title }}</label
    >
    <button
      v-if="titles.length"
      class="plain-button"
      data-test="bring-these"
      :disabled="busy || !chosen.length"
      @click="bring"
    >
      Bring over {{ chosen.length }} {{ chosen.length === 1 ? 'pass' : 'passes' }}
    </button>
  </template>
</template>

<style scoped>
.opener {
  text-align: left;
  min-height: 24px;
}
</style>
