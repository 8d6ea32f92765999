import { defineStore } from 'pinia'
import { ref } from 'vue'
import { api, ask } from '@/api/client'

/** Who is signed in. */
export const useSession = defineStore('session', () => {
  const signedIn = ref(false)
  const username = ref('')
  const demo = ref(false)
  const known = ref(false)

  function take(s: { signed_in: boolean; username: string; demo: boolean }) {
    signedIn.value = s.signed_in
    username.value = s.username
    demo.value = s.demo
    known.value = true
  }
  async function look() {
    take(await ask(api.GET('/api/session')))
  }
  async function signIn(name: string, password: string) {
    take(await ask(api.POST('/api/session', { body: { username: name, password } })))
  }
  async function signOut() {
    take(await ask(api.DELETE('/api/session')))
  }
  return { signedIn, username, demo, known, look, signIn, signOut }
})
