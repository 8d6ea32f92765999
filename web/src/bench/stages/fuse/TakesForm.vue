<script setup lang="ts">
import { onBeforeUnmount } from 'vue'
import { useBenchContext } from '@/bench/context'
import { takesPart } from '@/bench/stages/fuse/takes'
import { count } from '@/composables/format'

/** Every fusion of the object, to be compared, used or put away. */
defineProps<{ busy: boolean; main: boolean; name: string }>()
const context = useBenchContext()
const { bench } = context
const part = context.part('takes', takesPart)
const { takes, how } = part
const time = (at: string | null) =>
  at ? new Date(at).toLocaleTimeString('en-GB', { hour: '2-digit', minute: '2-digit' }) : ''
onBeforeUnmount(part.stop)
</script>

<template>
  <div class="card-form" data-test="takes">
    <ul aria-label="Takes">
      <li v-for="take in takes" :key="take.name" :data-test="`take-${take.name}`">
        <b>{{ take.name }}</b>
        <span class="quiet">{{ take.name === bench.bench.value?.of_take ? 'in use' : '' }}</span>
        <small class="num"
          >{{ take.voxel_mm.toFixed(2) }}&#8201;mm · {{ take.character }} · {{ count(take.triangles) }} ·
          {{ take.passes.length }} {{ take.passes.length === 1 ? 'pass' : 'passes' }} ·
          {{ time(take.created) }}</small
        >
        <span class="acts">
          <button
            type="button"
            class="link"
            :disabled="busy"
            :aria-label="`Use ${take.name}`"
            @click="bench.operation('takes', { take: take.name })"
          >
            Use
          </button>
          <button
            type="button"
            class="link"
            :disabled="busy"
            :aria-label="`Put ${take.name} away`"
            @click="bench.operation('takes', { take: take.name, what: 'put_away' })"
          >
            Put away
          </button>
        </span>
      </li>
    </ul>
    <p v-if="takes.length < 2" class="quiet">
      Fuse once more, finer or in another way, to have two to compare.
    </p>
    <button
      v-else
      type="button"
      class="plain-button"
      :aria-pressed="how != null"
      data-test="compare"
      @click="how ? part.stop() : part.begin()"
    >
      {{ how ? 'Stop comparing' : 'Compare two' }}
    </button>
  </div>
</template>

<style scoped>
li {
  display: grid;
  grid-template-columns: auto 1fr auto;
  gap: 2px 8px;
  padding: 6px 0;
  border-top: var(--hair);
  align-items: baseline;
}
li small {
  grid-column: 1 / -1;
  grid-row: 2;
  white-space: normal;
  text-align: left;
}
.acts {
  grid-column: 3;
  grid-row: 1;
  display: flex;
  gap: 8px;
}
p {
  margin: 0;
}
</style>
