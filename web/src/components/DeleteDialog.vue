<script setup lang="ts">
import Dialog from 'primevue/dialog'

/** Asks before an object is thrown away; title is the object's, or null when nothing is asked. */
defineProps<{ title: string | null }>()
const emit = defineEmits<{ keep: []; remove: [] }>()
</script>

<template>
  <Dialog
    :visible="!!title"
    modal
    header="Delete this object?"
    :style="{ width: '420px' }"
    @update:visible="emit('keep')"
  >
    <p>
      “{{ title }}”, its passes and its run sheet leave the shelf. For thirty days you can take it back from
      what is thrown away; then it is gone for good.
    </p>
    <div class="two">
      <button class="plain-button" @click="emit('keep')">Keep it</button
      ><button class="plain-button loss" @click="emit('remove')">Delete</button>
    </div>
  </Dialog>
</template>

<style scoped>
.loss {
  color: var(--oxblood);
}
.two {
  display: flex;
  justify-content: flex-end;
  gap: 8px;
  margin-top: 14px;
}
</style>
