<script setup lang="ts">
import Dialog from 'primevue/dialog'

/** Asks before the one act that cannot be undone; title is the object's, or null when nothing is asked. */
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
      “{{ title }}”, its passes and its run sheet will be gone. This is the one act that cannot be undone.
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
