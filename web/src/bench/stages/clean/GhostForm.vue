<script setup lang="ts">
import { computed, onBeforeUnmount, onMounted } from 'vue'
import { useBenchContext } from '@/bench/context'
import { usePointsMode } from '@/bench/usePointsMode'
import { swatchOf } from '@/lib/tokens'

interface Ghost {
  pass: string
  frames: number[]
  apart_mm: number
  noises: number
  at: number[]
}
/** Frames that lay the surface a second time beside it: marked in the view, with what can become of them. */
defineProps<{ busy: boolean; main: boolean; name: string }>()
const context = useBenchContext()
const { bench, view, live } = context
const found = computed(() => live.preview.value?.figures.found as Ghost[] | undefined)
const frames = ({ frames: [first, ...rest] }: Ghost) =>
  rest.length ? `frames ${first + 1} to ${rest[rest.length - 1] + 1}` : `frame ${first + 1}`
const swatch = (title: string) => swatchOf(bench.bench.value?.passes ?? [], title)
const mend = (how: string) => bench.operation('ghost_layers', { mend: how })

usePointsMode(context)
onMounted(() => live.show('ghost_layers', {}))
onBeforeUnmount(() => live.hide('ghost_layers'))
</script>

<template>
  <form class="card-form" data-test="ghost-layers" @submit.prevent="mend('move')">
    <ul v-if="found?.length" aria-label="Ghost layers">
      <li v-for="ghost in found" :key="`${ghost.pass} ${ghost.frames[0]}`" data-test="ghost">
        <i :style="{ background: swatch(ghost.pass) }" />
        <span
          ><b>{{ ghost.pass }}</b
          ><small>{{ frames(ghost) }} · {{ ghost.noises.toFixed(1) }} × the noise</small></span
        >
        <span class="num">{{ ghost.apart_mm.toFixed(2) }}&#8201;mm</span>
        <button
          type="button"
          class="link"
          :aria-label="`Go there: ghost layer of ${ghost.pass}, ${frames(ghost)}`"
          @click="view.viewer.value?.flyTo(ghost.at)"
        >
          Go there
        </button>
      </li>
    </ul>
    <div role="status" class="quiet">
      <p v-if="live.refused.value">{{ live.refused.value }}</p>
      <p v-else-if="!found">Comparing what the frames laid…</p>
      <p v-else-if="!found.length">No ghost layer: all frames lay one surface.</p>
      <p v-else>Violet: what lies beside what most frames laid.</p>
    </div>
    <template v-if="found?.length">
      <button :class="main ? 'main-button' : 'plain-button'" :disabled="busy" type="submit">
        Move onto the others
      </button>
      <div class="acts">
        <button
          type="button"
          class="plain-button"
          data-test="ghost-leave-out"
          :disabled="busy"
          @click="mend('leave_out')"
        >
          Leave frames out
        </button>
        <button type="button" class="plain-button" :disabled="busy" @click="mend('take_skin')">
          Take skin away
        </button>
        <button type="button" class="plain-button" :disabled="busy" @click="bench.operation('settle', {})">
          Settle again
        </button>
      </div>
    </template>
  </form>
</template>

<style scoped>
li {
  display: grid;
  grid-template-columns: 10px 1fr auto auto;
  gap: 8px;
  align-items: center;
  padding: 4px 0;
}
i {
  width: 10px;
  height: 10px;
  border-radius: 2px;
}
p {
  margin: 0;
}
.acts {
  display: flex;
  gap: 6px;
  flex-wrap: wrap;
}
</style>
