<script setup lang="ts">
import Dialog from 'primevue/dialog'
import InputText from 'primevue/inputtext'
import Textarea from 'primevue/textarea'
import { computed, onBeforeUnmount, onMounted, ref, shallowRef } from 'vue'
import { useRouter } from 'vue-router'
import { api, ask, uploadCapture, type ShelfItem } from '@/api/client'
import { mm } from '@/composables/format'
import { useAsync } from '@/composables/useAsync'
import { useActions } from '@/stores/actions'
import { useJobs } from '@/stores/jobs'

const router = useRouter()
const actions = useActions()
const jobs = useJobs()
const items = shallowRef<ShelfItem[] | null>(null)
const { busy, fault, run } = useAsync()
const adding = ref(false)
const title = ref('')
const notes = ref('')
const uploading = ref<number | null>(null)
const over = ref(false)
const doomed = shallowRef<ShelfItem | null>(null)

const largest = computed(() => Math.max(...(items.value ?? []).map((i) => i.size_mm ?? 60), 1))
const waiting = computed(() => (items.value ?? []).filter((i) => i.stages.some((s) => s.findings)).length)
/** Objects stand at their relative size, within what the eye still reads. */
const height = (item: ShelfItem) => 64 + 96 * Math.sqrt((item.size_mm ?? 60) / largest.value)

const load = () => run(async () => (items.value = await ask(api.GET('/api/objects'))))
const open = (item: ShelfItem) => router.push(`/objects/${item.id}`)
async function add() {
  const name = title.value.trim()
  if (!name) return
  await run(async () => {
    const made = await ask(api.POST('/api/objects', { body: { title: name, notes: notes.value } }))
    adding.value = false
    await router.push(`/objects/${made.id}`)
  })
}
async function dropped(e: DragEvent) {
  over.value = false
  const file = e.dataTransfer?.files[0]
  if (!file) return
  await run(async () => {
    const made = await ask(api.POST('/api/objects', { body: { title: file.name.replace(/\.zip$/i, '') } }))
    uploading.value = 0
    try {
      jobs.take(await uploadCapture(made.id, file, (share) => (uploading.value = share)))
      await router.push(`/objects/${made.id}`)
    } finally {
      uploading.value = null
    }
  })
}
async function remove() {
  const item = doomed.value
  doomed.value = null
  if (item)
    await run(async () => {
      await ask(api.DELETE('/api/objects/{object_id}', { params: { path: { object_id: item.id } } }))
      items.value = await ask(api.GET('/api/objects'))
    })
}
function startAdding() {
  title.value = ''
  notes.value = ''
  adding.value = true
}

const withdraw = actions.offer([
  { id: 'new-object', title: 'New object', group: 'Shelf', key: 'N', run: startAdding },
])
const unlisten = jobs.listen(() => void load())
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
})
</script>

<template>
  <div class="page" @dragover.prevent="over = true" @dragleave.self="over = false" @drop.prevent="dropped">
    <header>
      <h1>Shelf</h1>
      <p v-if="items" class="quiet">
        {{ items.length }} {{ items.length === 1 ? 'object' : 'objects' }}, {{ waiting }} waiting for you
      </p>
      <button class="find" @click="actions.paletteOpen = true">
        Find an object or an action <kbd class="key">Ctrl K</kbd>
      </button>
      <button class="main-button" data-test="new-object" @click="startAdding">New object</button>
    </header>
    <p v-if="fault" class="fault" role="alert">
      {{ fault }} <button class="link" @click="load">Try again</button>
    </p>
    <p v-if="!items && !fault" class="quiet">Fetching the shelf…</p>
    <div v-if="items" class="shelf">
      <article v-for="item in items" :key="item.id" data-test="shelf-item">
        <a class="stand" :href="`/objects/${item.id}`" :aria-label="item.title" @click.prevent="open(item)">
          <img v-if="item.picture" :src="item.picture" :style="{ height: `${height(item)}px` }" alt="" />
          <span v-else class="nothing">no picture yet</span>
        </a>
        <div class="board" />
        <div class="line">
          <b>{{ item.title }}</b><span class="acts"
            ><button class="link loss" :aria-label="`Delete ${item.title}`" @click="doomed = item">
              Delete
            </button></span
          >
        </div>
        <div class="line quiet">
          <span>{{ item.state }}</span><span class="num">{{ item.size_mm ? mm(item.size_mm, 0) : '' }}</span>
        </div>
        <div class="dashes">
          <i
            v-for="s in item.stages"
            :key="s.name"
            :class="[s.state, { look: s.findings }]"
            :title="s.name"
          />
        </div>
      </article>
      <article class="drop" :class="{ over }">
        <div>
          <span v-if="uploading == null">Drop a capture (.zip) here</span><span v-else>Uploading…</span>
          <div v-if="uploading != null" class="bar"><i :style="{ width: `${uploading * 100}%` }" /></div>
          <button class="link" @click="startAdding">or start with an empty object</button>
        </div>
      </article>
    </div>
    <Dialog v-model:visible="adding" modal header="New object" :style="{ width: '420px' }">
      <form class="form" @submit.prevent="add">
        <label>Name<InputText v-model="title" autofocus maxlength="120" data-test="object-title" /></label>
        <label>Notes<Textarea v-model="notes" rows="3" /></label>
        <button class="main-button" :disabled="busy || !title.trim()" data-test="create-object">
          Create
        </button>
      </form>
    </Dialog>
    <Dialog
      :visible="!!doomed"
      modal
      header="Delete this object?"
      :style="{ width: '420px' }"
      @update:visible="doomed = null"
    >
      <p>
        “{{ doomed?.title }}”, its passes and its run sheet will be gone. This is the one act that cannot be
        undone.
      </p>
      <div class="two">
        <button class="plain-button" @click="doomed = null">Keep it</button
        ><button class="plain-button loss" @click="remove">Delete</button>
      </div>
    </Dialog>
  </div>
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
.stand {
  height: 172px;
  display: flex;
  align-items: flex-end;
  justify-content: center;
}
.stand img {
  filter: drop-shadow(0 5px 5px rgb(40 30 10 / 25%));
  margin-bottom: -3px;
}
.nothing {
  color: var(--ink-3);
  padding-bottom: 30px;
}
.board {
  height: 7px;
  background: #d9ccb0;
  border-bottom: 4px solid #ece3d2;
  margin-bottom: 8px;
}
[data-theme='dark'] .board {
  background: #4a4335;
  border-color: #332f27;
}
.line {
  display: flex;
  justify-content: space-between;
  gap: 8px;
}
.line b {
  font: 600 15px var(--cond);
}
.dashes {
  display: grid;
  grid-template-columns: repeat(8, 1fr);
  gap: 4px;
  margin-top: 7px;
}
.dashes i {
  height: 4px;
  border-radius: 2px;
  background: var(--rule);
}
.dashes .done {
  background: var(--ink);
}
.dashes .current {
  background: var(--verdigris);
}
.dashes .look {
  background: var(--ochre);
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
.drop.over > div {
  border-color: var(--verdigris);
  background: var(--verdigris-wash);
}
.drop .bar {
  width: 60%;
}
.acts {
  opacity: 0;
}
article:hover .acts,
article:focus-within .acts {
  opacity: 1;
}
.loss {
  color: var(--oxblood);
}
.form {
  display: flex;
  flex-direction: column;
  gap: 12px;
}
.form label {
  display: flex;
  flex-direction: column;
  gap: 4px;
}
.two {
  display: flex;
  justify-content: flex-end;
  gap: 8px;
  margin-top: 14px;
}
</style>
