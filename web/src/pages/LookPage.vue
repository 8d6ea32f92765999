<script setup lang="ts">
import { onMounted } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { useAsync } from '@/composables/useAsync'
import { useSession } from '@/stores/session'

const route = useRoute()
const router = useRouter()
const session = useSession()
const { fault, run } = useAsync()
onMounted(() =>
  run(async () => {
    // The secret stands behind the hash: it reaches no server's log.
    const id = await session.openLink(route.hash.slice(1))
    await router.replace(`/objects/${id}`)
  }),
)
</script>

<template>
  <main class="page">
    <h1>{{ fault ? 'This link opens nothing' : 'Opening the object…' }}</h1>
    <p v-if="fault" role="alert">{{ fault }} Ask whoever sent it for a new one.</p>
    <p v-if="fault"><RouterLink to="/sign-in">Sign in instead</RouterLink></p>
  </main>
</template>

<style scoped>
.page {
  max-width: 520px;
  margin: 14vh auto 0;
  padding: 0 24px;
  display: flex;
  flex-direction: column;
  gap: 10px;
}
h1 {
  font-size: 24px;
}
a {
  display: inline-block;
  padding: 6px 0;
}
</style>
