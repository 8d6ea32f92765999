<script setup lang="ts">
import { computed } from 'vue'
import type { StandView } from '@/api/client'

/** Somebody asks for an instrument that one drives. */
const props = defineProps<{ stands: StandView[] }>()
const emit = defineEmits<{ answer: [string, 'hand_over' | 'keep'] }>()
const asked = computed(() => props.stands.find((s) => s.driven_by_me && s.asked_by) ?? null)
</script>

<template>
  <div v-if="asked" class="call" role="alert" data-test="desk-call">
    <span
      ><b>{{ asked.asked_by }}</b> asks to take over the {{ asked.title.toLowerCase() }}.</span
    >
    <button class="plain-button" @click="emit('answer', asked.name, 'keep')">Keep it</button>
    <button class="main-button" data-test="call-hand-over" @click="emit('answer', asked.name, 'hand_over')">
      Hand it over
    </button>
  </div>
</template>

<style scoped>
.call {
  position: fixed;
  left: 50%;
  bottom: 18px;
  transform: translateX(-50%);
  z-index: 20;
  display: flex;
  align-items: center;
  gap: 10px;
  padding: 10px 14px;
  border-radius: 8px;
  background: var(--sheet);
  border: var(--hair);
  box-shadow: var(--lift);
}
</style>
