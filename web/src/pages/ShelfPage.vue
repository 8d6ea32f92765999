<script setup lang="ts">
import { computed, onBeforeUnmount, onMounted, ref, shallowRef } from 'vue'
import { useRouter } from 'vue-router'
import { api, ask, type ShelfItem } from '@/api/client'
import DropArea from '@/components/DropArea.vue'
import DeleteDialog from '@/components/DeleteDialog.vue'
import NewObjectDialog from '@/components/NewObjectDialog.vue'
import SharingDialog from '@/components/SharingDialog.vue'
import ShelfCard from '@/components/ShelfCard.vue'
import ShelfSieve from '@/components/ShelfSieve.vue'
import ManyBar from '@/components/ManyBar.vue'
import { useMany } from '@/composables/useMany'
import { useAsync } from '@/composables/useAsync'
import { NO_WISH, sifted, type Wish } from '@/lib/sift'
import { useActions } from '@/stores/actions'
import { useArrivals } from '@/stores/arrivals'
import { useJobs } from '@/stores/jobs'

const router = useRouter()
const actions = useActions()
const jobs = useJobs()
const arrivals = useArrivals()
const items = shallowRef<ShelfItem[] | null>(null)
const { busy, fault, run } = useAsync()
const adding = ref(false)
const shared = shallowRef<ShelfItem | null>(null)
const doomed = shallowRef<ShelfItem | null>(null)

const largest = computed(() => Math.max(...(items.value ?? []).map((i) => i.size_mm ?? 60), 1))
const standing = computed(() => (items.value ?? []).filter((i) => !i.archived && !i.deleted))
const waiting = computed(() => standing.value.filter((i) => i.stages.some((s) => s.findings)).length)
const wish = ref<Wish>({ ...NO_WISH })
const found = computed(() => sifted(items.value ?? [], wish.value))
const many = useMany()
const { choosing, chosen } = many
/** Objects stand at their relative size, within what the eye still reads. */
const height = (item: ShelfItem) => 64 + 96 * Math.sqrt((item.size_mm ?? 60) / largest.value)

const load = () => run(async () => (items.value = await ask(api.GET('/api/objects'))))
const open = (item: ShelfItem) => router.push(`/objects/${item.id}`)
async function add(body: { title: string; notes: string }) {
  await run(async () => {
    const made = await ask(api.POST('/api/objects', { body: body }))
    adding.value = false
    await router.push(`/objects/${made.id}`)
  })
}
/** Files dropped here become passes of a new object, named after the first of them; its bench shows them come. */
async function dropped(files: File[]) {
  await run(async () => {
    const title = files[0].name.replace(/\.[^.]+$/, '')
    const made = await ask(api.POST('/api/objects', { body: { title } }))
    const sent = arrivals.bring(made.id, files)
    await router.push(`/objects/${made.id}`)
    await sent
  })
}
async function remove() {
  const item = doomed.value
  doomed.value = null
  if (item)
    await act(() => ask(api.DELETE('/api/objects/{object_id}', { params: { path: { object_id: item.id } } })))
}
/** Do something with the rows of the shelf, and show what came of it. */
const act = (call: () => Promise<unknown>) =>
  run(async () => {
    await call()
    items.value = await ask(api.GET('/api/objects'))
  })
const of = (item: ShelfItem) => ({ params: { path: { object_id: item.id } } })
const change = (item: ShelfItem, body: { tags?: string[]; archived?: boolean }) =>
  act(() => ask(api.PATCH('/api/objects/{object_id}', { ...of(item), body })))
const duplicate = (item: ShelfItem) =>
  act(() => ask(api.POST('/api/objects/{object_id}/duplicate', of(item))))
const takeBack = (item: ShelfItem) => act(() => ask(api.POST('/api/objects/{object_id}/back', of(item))))
const startAdding = () => (adding.value = true)

const withdraw = actions.offer([
  { id: 'new-object', title: 'New object', group: 'Shelf', key: 'N', run: startAdding },
  {
    id: 'search-shelf',
    title: 'Search the shelf',
    group: 'Shelf',
    key: '/',
    run: () => document.querySelector<HTMLInputElement>('#shelf-words')?.focus(),
  },
  { id: 'choose-many', title: 'Choose objects for a recipe', group: 'Shelf', key: 'R', run: many.toggle },
])
// Pictures come and findings change behind the steps: the shelf follows, but not with every word of progress.
let soon = 0
function follow() {
  window.clearTimeout(soon)
  soon = window.setTimeout(() => void load(), 700)
}
const unlisten = jobs.listen(follow)
const unlistenObjects = jobs.listenToObjects(follow)
let withdrawItems = () => {}
onMounted(async () => {
  await load()
  withdrawItems = actions.offer(
    (items.value ?? []).map((i) => ({
      id: `open-${i.id}`,
      title: i.title,
      group: 'Open object',
      run: () => void open(i),
    })),
  )
})
onBeforeUnmount(() => {
  withdraw()
  withdrawItems()
  unlisten()
  unlistenObjects()
  window.clearTimeout(soon)
})
</script>

<template>
  <DropArea words="Drop to begin a new object with these scans" @files="dropped">
    <main class="page">
      <header>
        <h1>Shelf</h1>
        <p v-if="items" class="quiet">
          {{ standing.length }} {{ standing.length === 1 ? 'object' : 'objects' }}, {{ waiting }} waiting for
          you
        </p>
        <button class="find" @click="actions.paletteOpen = true">
          Find an object or an action <kbd class="key">Ctrl K</kbd>
        </button>
        <button class="plain-button" :aria-pressed="choosing" data-test="choose-many" @click="many.toggle">
          Run a recipe…
        </button>
        <button class="main-button" data-test="new-object" @click="startAdding">New object</button>
      </header>
      <p v-if="fault" class="fault" role="alert">
        {{ fault }} <button class="link" @click="load">Try again</button>
      </p>
      <p v-if="!items && !fault" class="quiet">Fetching the shelf…</p>
      <ShelfSieve v-if="items && items.length" v-model="wish" :items="items" :count="found.length" />
      <ManyBar
        v-if="choosing"
        v-model="many.recipe.value"
        :recipes="many.recipes.value"
        :count="chosen.size"
        :said="many.said.value"
        :busy="many.busy.value"
        @all="many.all(found)"
        @run="many.runAll(items ?? [])"
        @close="many.toggle"
      />
      <p v-if="items?.length && !found.length" class="quiet">Nothing on the shelf is like that.</p>
      <div v-if="items" class="shelf">
        <ShelfCard
          v-for="item in found"
          :key="item.id"
          :item="item"
          :height="height(item)"
          :choosing="choosing"
          :chosen="chosen.has(item.id)"
          @open="open(item)"
          @choose="many.choose(item)"
          @remove="doomed = item"
          @share="shared = item"
          @tags="(tags) => change(item, { tags })"
          @archive="(archived) => change(item, { archived })"
          @duplicate="duplicate(item)"
          @back="takeBack(item)"
        />
        <article v-if="wish.where === 'shelf'" class="drop">
          <div>
            <span>Drop scans or captures here</span>
            <button class="link" @click="startAdding">or start with an empty object</button>
          </div>
        </article>
      </div>
      <NewObjectDialog v-model:open="adding" :busy="busy" @create="add" />
      <SharingDialog :object="shared" @close="shared = null" />
      <DeleteDialog :title="doomed?.title ?? null" @keep="doomed = null" @remove="remove" />
    </main>
  </DropArea>
</template>

<style scoped>
.page {
  padding: 26px 32px 40px;
  max-width: 1500px;
  margin: 0 auto;
  min-height: 100%;
}
header {
  display: flex;
  align-items: center;
  gap: 18px;
  margin-bottom: 22px;
}
h1 {
  font-size: 26px;
}
.find {
  margin-left: auto;
  display: flex;
  justify-content: space-between;
  width: 250px;
  padding: 7px 10px;
  border: var(--hair);
  border-radius: var(--radius);
  background: var(--sheet);
  color: var(--ink-2);
  cursor: text;
}
.fault {
  color: var(--oxblood);
  margin-bottom: 12px;
}
.shelf {
  display: grid;
  grid-template-columns: repeat(auto-fill, minmax(256px, 1fr));
  gap: 30px 26px;
}
.drop > div {
  height: 172px;
  margin: 0 30px;
  border: 1.5px dashed var(--ink-3);
  border-radius: 10px;
  display: flex;
  flex-direction: column;
  gap: 4px;
  align-items: center;
  justify-content: center;
  color: var(--ink-2);
}
</style>
