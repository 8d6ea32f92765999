import { createRouter, createWebHistory } from 'vue-router'
import BenchPage from '@/pages/BenchPage.vue'
import InstrumentsPage from '@/pages/InstrumentsPage.vue'
import LookPage from '@/pages/LookPage.vue'
import QueuePage from '@/pages/QueuePage.vue'
import RecipesPage from '@/pages/RecipesPage.vue'
import ShelfPage from '@/pages/ShelfPage.vue'
import SignInPage from '@/pages/SignInPage.vue'
import { useSession } from '@/stores/session'

export const router = createRouter({
  history: createWebHistory('/'),
  routes: [
    { path: '/', component: ShelfPage },
    { path: '/instruments', component: InstrumentsPage },
    { path: '/recipes', component: RecipesPage },
    { path: '/queue', component: QueuePage },
    { path: '/objects/:id', component: BenchPage, props: true },
    { path: '/look', component: LookPage, meta: { open: true } },
    { path: '/sign-in', component: SignInPage, meta: { open: true } },
    { path: '/:rest(.*)*', redirect: '/' },
  ],
})

router.beforeEach(async (to) => {
  const session = useSession()
  if (!session.known) await session.look().catch(() => undefined)
  const visits = session.visitor && to.path.startsWith('/objects/')
  if (!session.signedIn && !visits && !to.meta.open) return { path: '/sign-in', query: { to: to.fullPath } }
  return true
})
