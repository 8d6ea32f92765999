<script setup lang="ts">
import { computed, onBeforeUnmount, onMounted, ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import ActionPalette from '@/components/ActionPalette.vue'
import KeysHelp from '@/components/KeysHelp.vue'
import Mark from '@/components/Mark.vue'
import QueuePill from '@/components/QueuePill.vue'
import DeskCall from '@/components/DeskCall.vue'
import { useActions } from '@/stores/actions'
import { useJobs } from '@/stores/jobs'
import { useSession } from '@/stores/session'
import { useStands } from '@/stores/stands'
import FirstTour from '@/components/FirstTour.vue'
import { useTelling } from '@/stores/telling'
import { useTheme } from '@/stores/theme'

const route = useRoute()
const router = useRouter()
const session = useSession()
const jobs = useJobs()
const actions = useActions()
const stands = useStands()
const theme = useTheme()
useTelling()
/** Shown once on every computer, and again when it is asked for. */
const touring = ref(!localStorage.getItem('tour'))
function endTour() {
  touring.value = false
  localStorage.setItem('tour', 'done')
}
const onBench = computed(() => route.path.startsWith('/objects/'))
const initials = computed(() => session.username.slice(0, 2).toUpperCase())

watch(
  () => session.inside,
  (on) => (on ? jobs.connect() : jobs.disconnect()),
  { immediate: true },
)
watch(
  () => session.signedIn,
  (on) => (on ? stands.watchOver() : stands.leave()),
  { immediate: true },
)
async function leave() {
  await session.signOut()
  await router.push('/sign-in')
}
const withdraw = actions.offer([
  {
    id: 'palette',
    title: 'Find an action',
    group: 'Everywhere',
    key: 'Ctrl+K',
    run: () => (actions.paletteOpen = true),
  },
  { id: 'keys', title: 'Show all keys', group: 'Everywhere', key: '?', run: () => (actions.helpOpen = true) },
  { id: 'shelf', title: 'Go to the shelf', group: 'Everywhere', key: 'G', run: () => void router.push('/') },
  {
    id: 'queue',
    title: 'Go to the queue',
    group: 'Everywhere',
    key: 'Q',
    run: () => void router.push('/queue'),
  },
  {
    id: 'instruments',
    title: 'Go to the instruments',
    group: 'Everywhere',
    key: 'Alt+I',
    run: () => void router.push('/instruments'),
  },
  {
    id: 'recipes',
    title: 'Go to the recipes',
    group: 'Everywhere',
    run: () => void router.push('/recipes'),
  },
  { id: 'tour', title: 'First steps: the tour', group: 'Everywhere', run: () => (touring.value = true) },
  { id: 'theme', title: 'Light or dark', group: 'Everywhere', key: 'D', run: theme.toggle },
  { id: 'leave', title: 'Sign out', group: 'Everywhere', run: () => void leave() },
])
onMounted(() => {
  window.addEventListener('keydown', actions.onKeyFirst, { capture: true })
  window.addEventListener('keydown', actions.onKey)
})
onBeforeUnmount(() => {
  window.removeEventListener('keydown', actions.onKeyFirst, { capture: true })
  window.removeEventListener('keydown', actions.onKey)
  withdraw()
})
</script>

<template>
  <div class="frame">
    <header class="head">
      <Mark />
      <div id="head-place" />
      <nav v-if="!onBench && session.signedIn">
        <RouterLink to="/">Shelf</RouterLink><RouterLink to="/instruments">Instruments</RouterLink
        ><RouterLink to="/recipes">Recipes</RouterLink><RouterLink to="/queue">Queue</RouterLink>
      </nav>
      <div id="head-middle" />
      <template v-if="session.signedIn">
        <QueuePill :running="jobs.running" :connected="jobs.connected" />
        <button class="round" title="Keys (?)" aria-label="Show all keys" @click="actions.helpOpen = true">
          ?
        </button>
        <button
          class="round"
          :title="`${session.username}: sign out`"
          :aria-label="`${initials}: sign out`"
          @click="leave"
        >
          {{ initials }}
        </button>
      </template>
    </header>
    <div class="body"><RouterView :key="route.path" /></div>
    <ActionPalette v-model:open="actions.paletteOpen" :actions="actions.list" />
    <DeskCall :stands="stands.stands" @answer="(name, how) => void stands.act(name, how)" />
    <FirstTour v-if="touring && session.signedIn" :on-bench="onBench" @done="endTour" />
    <KeysHelp v-model:open="actions.helpOpen" :actions="actions.list" />
  </div>
</template>

<style scoped>
.frame {
  height: 100%;
  display: grid;
  grid-template-rows: 52px minmax(0, 1fr);
}
.head {
  display: flex;
  align-items: center;
  gap: 14px;
  padding: 0 16px;
  background: var(--sheet);
  border-bottom: var(--hair);
  min-width: 0;
}
#head-middle {
  flex: 1;
  display: flex;
  justify-content: center;
  min-width: 0;
}
nav {
  display: flex;
  gap: 18px;
  font: 500 14px var(--cond);
}
nav a {
  color: var(--ink-2);
  padding: 4px 0;
}
nav .router-link-exact-active {
  color: var(--ink);
  border-bottom: 2px solid var(--verdigris);
}
.body {
  min-height: 0;
  overflow: auto;
}
.round {
  width: 28px;
  height: 28px;
  flex: none;
  border-radius: 50%;
  border: var(--hair);
  background: var(--sunk);
  font: 600 11.5px var(--cond);
  color: var(--ink-2);
  cursor: pointer;
  padding: 0;
}
</style>
