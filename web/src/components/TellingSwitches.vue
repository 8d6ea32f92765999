<script setup lang="ts">
import type { Telling } from '@/composables/announce'

/** What tells that something has ended while one looks elsewhere. */
const ways = defineModel<Telling>({ required: true })
const WORDS: Record<keyof Telling, string> = {
  sound: 'a quiet sound',
  title: 'a count in the title',
  notification: 'a notification',
}
function set(name: keyof Telling, on: boolean) {
  ways.value[name] = on
  if (name === 'notification' && on && window.Notification?.permission === 'default')
    void Notification.requestPermission()
}
</script>

<template>
  <fieldset data-test="telling">
    <legend class="quiet">When something ends:</legend>
    <label v-for="(words, name) in WORDS" :key="name" class="ticked">
      <input
        type="checkbox"
        :checked="ways[name]"
        :data-test="`tell-${name}`"
        @change="set(name, ($event.target as HTMLInputElement).checked)"
      />
      {{ words }}
    </label>
  </fieldset>
</template>

<style scoped>
fieldset {
  display: flex;
  align-items: center;
  gap: 16px;
  border: 0;
  margin: 0;
  padding: 0;
}
legend {
  float: left;
  padding: 0;
}
</style>
