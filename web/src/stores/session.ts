import { defineStore } from 'pinia'
import { computed, ref } from 'vue'
import { api, ask } from '@/api/client'

/** Who is signed in. */
export const useSession = defineStore('session', () => {
  const signedIn = ref(false)
  const username = ref('')
  const demo = ref(false)
  const visitor = ref(false)
  const known = ref(false)

  function take(s: { signed_in: boolean; username: string; demo: boolean; visitor: boolean }) {
    visitor.value = s.visitor
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
  /** Open a link to look at an object; resolves with the object's id. */
  async function openLink(secret: string): Promise<string> {
    const opened = await ask(api.POST('/api/look', { body: { secret } }))
    await look()
    return opened.object_id
  }
  /** Whether anything may be seen here at all. */
  const inside = computed(() => signedIn.value || visitor.value)
  return { signedIn, visitor, inside, username, demo, known, look, signIn, signOut, openLink }
})
