<script setup lang="ts">
import InputText from 'primevue/inputtext'
import { ref, shallowRef } from 'vue'
import { api, ask, type CapturePlan, type NamedSetUp } from '@/api/client'
import { useAsync } from '@/composables/useAsync'

const props = defineProps<{ plan: CapturePlan }>()
const emit = defineEmits<{ take: [Partial<CapturePlan>] }>()
const kept = shallowRef<NamedSetUp[]>([])
const open = ref(false)
const name = ref('')
const { fault, busy, run } = useAsync()

const load = async () => void (kept.value = await ask(api.GET('/api/set-ups')))
async function toggle() {
  open.value = !open.value
  if (open.value) await run(load)
}
const keep = () =>
  run(async () => {
    await ask(api.POST('/api/set-ups', { body: { name: name.value, set_up: props.plan } }))
    name.value = ''
    await load()
  })
const forget = (one: NamedSetUp) =>
  run(async () => {
    await ask(api.DELETE('/api/set-ups/{set_up_id}', { params: { path: { set_up_id: one.id } } }))
    await load()
  })
function take(one: NamedSetUp) {
  emit('take', one.set_up as Partial<CapturePlan>)
  open.value = false
}
</script>

<template>
  <div class="kept">
    <button type="button" class="link" :aria-expanded="open" data-test="set-ups" @click="toggle">
      Set-ups {{ open ? '▴' : '▾' }}
    </button>
    <div v-if="open" class="sheet" data-test="set-up-list">
      <p v-if="fault" class="fault" role="alert">{{ fault }}</p>
      <p v-if="!kept.length" class="quiet">None is kept yet.</p>
      <div v-for="one in kept" :key="one.id" class="row">
        <button type="button" class="link take" @click="take(one)">{{ one.name }}</button>
        <button type="button" class="link" :aria-label="`Forget ${one.name}`" @click="forget(one)">
          Forget
        </button>
      </div>
      <div class="row">
        <InputText
          v-model="name"
          size="small"
          maxlength="60"
          placeholder="A name"
          aria-label="Name of the set-up"
        />
        <button
          type="button"
          class="plain-button"
          :disabled="busy || !name.trim()"
          data-test="keep-set-up"
          @click="keep"
        >
          Keep this
        </button>
      </div>
    </div>
  </div>
</template>

<style scoped>
.kept {
  position: relative;
  margin-left: auto;
}
.sheet {
  position: absolute;
  right: -8px;
  top: 26px;
  z-index: 5;
  width: 262px;
  padding: 10px 12px;
  display: flex;
  flex-direction: column;
  gap: 8px;
  background: var(--sheet);
  border: var(--hair);
  border-radius: var(--radius);
  box-shadow: var(--lift);
}
.row {
  display: flex;
  justify-content: space-between;
  gap: 8px;
}
.row :deep(input) {
  min-width: 0;
  flex: 1;
}
.take {
  overflow: hidden;
  text-overflow: ellipsis;
}
.fault {
  color: var(--oxblood);
}
</style>
