<script setup lang="ts">
import Dialog from 'primevue/dialog'
import { ref, shallowRef, watch } from 'vue'
import { api, ask, type Sharing } from '@/api/client'
import LinkSharing from '@/components/LinkSharing.vue'
import { useAsync } from '@/composables/useAsync'

/** Who else may look at an object or work on it; object is null when nothing is asked. */
const props = defineProps<{ object: { id: string; title: string } | null }>()
const emit = defineEmits<{ close: [] }>()
const shared = shallowRef<Sharing | null>(null)
const username = ref('')
const role = ref<'look' | 'work'>('look')
const { busy, fault, run } = useAsync()
const path = () => ({ object_id: props.object!.id })

const load = () =>
  run(
    async () =>
      (shared.value = await ask(api.GET('/api/objects/{object_id}/sharing', { params: { path: path() } }))),
  )
async function letIn(name: string, as: 'look' | 'work') {
  const body = { username: name, role: as }
  const done = await run(async () => {
    await ask(api.POST('/api/objects/{object_id}/sharing/people', { params: { path: path() }, body }))
    username.value = ''
  })
  if (done) await load()
}
async function takeBack(id: number) {
  const params = { path: { ...path(), share_id: id } }
  const call = '/api/objects/{object_id}/sharing/people/{share_id}'
  if (await run(async () => void (await ask(api.DELETE(call, { params }))))) await load()
}
watch(
  () => props.object?.id,
  (id) => {
    shared.value = null
    if (id) void load()
  },
  { immediate: true },
)
</script>

<template>
  <Dialog
    :visible="!!object"
    modal
    class="sharing"
    :header="`Share “${object?.title ?? ''}”`"
    :style="{ width: '560px' }"
    @update:visible="emit('close')"
  >
    <p v-if="fault" class="fault" role="alert">{{ fault }}</p>
    <section v-if="shared" aria-label="People">
      <h2>People here</h2>
      <p v-if="!shared.people.length" class="quiet">Nobody else sees this object.</p>
      <ul>
        <li v-for="p in shared.people" :key="p.id" data-test="share">
          <b>{{ p.username }}</b>
          <select
            class="text-entry"
            :value="p.role"
            :aria-label="`What ${p.username} may do`"
            @change="letIn(p.username, ($event.target as HTMLSelectElement).value as 'look' | 'work')"
          >
            <option value="look">may look</option>
            <option value="work">may work</option>
          </select>
          <button class="link" :aria-label="`Take back from ${p.username}`" @click="takeBack(p.id)">
            Take back
          </button>
        </li>
      </ul>
      <form class="row" @submit.prevent="letIn(username.trim(), role)">
        <input
          v-model="username"
          class="text-entry"
          aria-label="Name of a person"
          placeholder="Name of a person"
          maxlength="150"
          data-test="share-name"
        />
        <select v-model="role" class="text-entry" aria-label="What they may do">
          <option value="look">may look</option>
          <option value="work">may work</option>
        </select>
        <button class="plain-button" :disabled="busy || !username.trim()" data-test="share-add">
          Let in
        </button>
      </form>
    </section>
    <LinkSharing v-if="shared && object" :id="object.id" :links="shared.links" @changed="load" />
    <p v-else-if="!fault" class="quiet">Fetching who sees it…</p>
  </Dialog>
</template>

<style src="@/styles/sharing.css"></style>
