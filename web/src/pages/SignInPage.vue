<script setup lang="ts">
import InputText from 'primevue/inputtext'
import { ref } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { useAsync } from '@/composables/useAsync'
import { useSession } from '@/stores/session'

const session = useSession()
const router = useRouter()
const route = useRoute()
const name = ref('')
const password = ref('')
const { busy, fault, run } = useAsync()
async function enter() {
  if (await run(() => session.signIn(name.value, password.value)))
    await router.replace(String(route.query.to ?? '/'))
}
</script>

<template>
  <main>
    <form class="card" @submit.prevent="enter">
      <h1>Sign in</h1>
      <label>Name<InputText v-model="name" autocomplete="username" autofocus data-test="username" /></label>
      <label
        >Password<InputText
          v-model="password"
          type="password"
          autocomplete="current-password"
          data-test="password"
      /></label>
      <p v-if="fault" class="fault" role="alert">{{ fault }}</p>
      <button class="main-button" :disabled="busy || !name || !password" data-test="sign-in">Sign in</button>
    </form>
  </main>
</template>

<style scoped>
.card {
  width: 340px;
  margin: 12vh auto 0;
  padding: 24px;
  background: var(--sheet);
  border: var(--hair);
  border-radius: 10px;
  box-shadow: var(--lift);
  display: flex;
  flex-direction: column;
  gap: 14px;
}
h1 {
  font-size: 22px;
}
label {
  display: flex;
  flex-direction: column;
  gap: 4px;
}
.fault {
  color: var(--oxblood);
}
</style>
