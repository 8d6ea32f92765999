<script setup lang="ts">
import Dialog from 'primevue/dialog'
import InputText from 'primevue/inputtext'
import Textarea from 'primevue/textarea'
import { ref, watch } from 'vue'

defineProps<{ busy: boolean }>()
const emit = defineEmits<{ create: [{ title: string; notes: string }] }>()
const open = defineModel<boolean>('open', { required: true })
const title = ref('')
const notes = ref('')
watch(open, (now) => {
  if (now) title.value = notes.value = ''
})
function create() {
  const name = title.value.trim()
  if (name) emit('create', { title: name, notes: notes.value })
}
</script>

<template>
  <Dialog v-model:visible="open" modal header="New object" :style="{ width: '420px' }">
    <form class="form" @submit.prevent="create">
      <label>Name<InputText v-model="title" autofocus maxlength="120" data-test="object-title" /></label>
      <label>Notes<Textarea v-model="notes" rows="3" /></label>
      <button class="main-button" :disabled="busy || !title.trim()" data-test="create-object">Create</button>
    </form>
  </Dialog>
</template>

<style scoped>
.form {
  display: flex;
  flex-direction: column;
  gap: 12px;
}
.form label {
  display: flex;
  flex-direction: column;
  gap: 4px;
}
</style>
