<script setup lang="ts">
import { ref } from 'vue'
import { api, ask, type Sharing } from '@/api/client'
import { useAsync } from '@/composables/useAsync'

/** Links with which anybody may look at an object until they expire. */
const props = defineProps<{ id: string; links: Sharing['links'] }>()
const emit = defineEmits<{ changed: [] }>()
const note = ref('')
const days = ref(14)
const address = ref('')
const copied = ref(false)
const { busy, fault, run } = useAsync()
const day = (when: string) =>
  new Date(when).toLocaleDateString('en-GB', { day: 'numeric', month: 'short', year: 'numeric' })

async function make() {
  const body = { days: days.value, note: note.value.trim() }
  const params = { path: { object_id: props.id } }
  await run(async () => {
    const made = await ask(api.POST('/api/objects/{object_id}/sharing/links', { params, body }))
    address.value = `${location.origin}/look#${made.secret}`
    copied.value = false
    note.value = ''
  })
  emit('changed')
}
async function takeBack(id: number) {
  const params = { path: { object_id: props.id, link_id: id } }
  const call = '/api/objects/{object_id}/sharing/links/{link_id}'
  await run(async () => void (await ask(api.DELETE(call, { params }))))
  address.value = ''
  emit('changed')
}
async function copy() {
  await navigator.clipboard.writeText(address.value)
  copied.value = true
}
</script>

<template>
  <section aria-label="Links">
    <h2>Links to look, without an account</h2>
    <p v-if="fault" class="fault" role="alert">{{ fault }}</p>
    <ul>
      <li v-for="l in links" :key="l.id" data-test="link">
        <b>{{ l.note || 'Link' }}</b><span class="quiet">until {{ day(l.expires) }}</span
        ><button
          class="link"
          :aria-label="`Take back the link ${l.note || `until ${day(l.expires)}`}`"
          @click="takeBack(l.id)"
        >
          Take back
        </button>
      </li>
    </ul>
    <div v-if="address" class="made" role="status">
      <p>This address is shown this once. Whoever has it may look until it expires.</p>
      <div class="row">
        <input
          class="text-entry"
          readonly
          :value="address"
          aria-label="Address of the link"
          data-test="address"
        />
        <button class="plain-button" @click="copy">{{ copied ? 'Copied' : 'Copy' }}</button>
      </div>
    </div>
    <form class="row" @submit.prevent="make">
      <input
        v-model="note"
        class="text-entry"
        aria-label="For whom the link is"
        placeholder="For whom, for your own notes"
        maxlength="120"
      />
      <label
        >Days
        <input v-model.number="days" class="text-entry days" type="number" min="1" max="366" required />
      </label>
      <button class="plain-button" :disabled="busy" data-test="make-link">Make a link</button>
    </form>
  </section>
</template>

<style scoped>
section {
  margin-top: 14px;
  padding-top: 10px;
  border-top: var(--hair);
}
.days {
  width: 64px;
}
.made {
  padding: 8px 10px;
  margin-bottom: 10px;
  background: var(--verdigris-wash);
  border-radius: var(--radius);
}
</style>
