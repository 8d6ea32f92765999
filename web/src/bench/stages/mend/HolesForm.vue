<script setup lang="ts">
import { onBeforeUnmount, onMounted, ref } from 'vue'
import { useBenchContext } from '@/bench/context'
import { holesPart } from '@/bench/stages/mend/holes'
import { bridge, takeRims } from '@/bench/stages/mend/takeRims'

/** All holes, the longest rim first, each to be taken or left; how they are closed. */
defineProps<{ busy: boolean; main: boolean; name: string }>()
const context = useBenchContext()
const { bench, view, live } = context
const part = context.part('holes', holesPart)
const { holes, taken, chosen, bridges, begun, refused, loading, fault, how, shown, told } = part
const size = ref(5)
const SHOWN = 60 // rows; the others are in the view and taken by size
onMounted(() => {
  part.open.value = true
})
onBeforeUnmount(() => {
  part.open.value = false
  if (view.tool.value === takeRims || view.tool.value === bridge) view.use(null)
})
</script>

<template>
  <form class="card-form" data-test="holes" @submit.prevent="part.close()">
    <p v-if="fault" class="quiet" role="status">{{ fault }}</p>
    <p v-else-if="loading" class="quiet" role="status">Looking for holes…</p>
    <p v-else-if="!holes.length" class="quiet" role="status" data-test="holes-none">The mesh has no hole.</p>
    <template v-else>
      <p role="status" data-test="holes-chosen">
        {{ chosen }} of {{ holes.length }} to be closed<template v-if="chosen < holes.length"
          >, the others stay open</template
        >.
      </p>
      <div class="acts">
        <button type="button" class="plain-button" @click="part.all(true)">All</button>
        <button type="button" class="plain-button" @click="part.all(false)">None</button>
        <button type="button" class="plain-button" @click="part.invert">Turn round</button>
        <button type="button" class="plain-button" @click="part.under(size)">Under</button>
        <label class="size"
          ><input v-model.number="size" type="number" min="0" step="0.5" aria-label="Size in mm" /> mm</label
        >
      </div>
      <ul aria-label="Holes">
        <li v-for="(hole, n) in holes.slice(0, SHOWN)" :key="n">
          <label
            ><input
              v-model="taken[n]"
              type="checkbox"
              :aria-label="`Close hole ${n + 1}`"
              :data-test="`hole-${n}`"
            /><b class="num">{{ n + 1 }}</b></label
          >
          <span class="num">{{ hole.size_mm.toFixed(1) }}&#8201;mm</span>
          <small class="num"
            >{{ hole.length_mm.toFixed(0) }} round, {{ hole.area_mm2.toFixed(0) }}&#8201;mm²,
            {{ hole.flat ? 'flat' : 'bent' }}</small
          >
          <button
            type="button"
            class="link"
            :aria-label="`Go to hole ${n + 1}`"
            @click="view.viewer.value?.flyTo(hole.at)"
          >
            Go
          </button>
        </li>
      </ul>
      <p v-if="holes.length > SHOWN" class="quiet">
        and {{ holes.length - SHOWN }} smaller ones, in the view.
      </p>
      <p v-if="refused" class="quiet" role="status">{{ refused }}</p>
      <p v-else-if="begun || bridges.length" role="status" data-test="bridges">
        {{ bridges.length }} {{ bridges.length === 1 ? 'bridge' : 'bridges' }} across<template v-if="begun"
          >, one begun: click its other end</template
        >.
        <button type="button" class="link" @click="part.unbridge">Take off</button>
      </p>
      <div class="acts" role="radiogroup" aria-label="How they are closed">
        <label v-for="way in ['curved', 'flat']" :key="way"
          ><input v-model="how" type="radio" name="how" :value="way" />
          {{ way === 'curved' ? 'Go on as the surface bends' : 'Span flat' }}</label
        >
      </div>
      <label class="show"
        ><input v-model="shown" type="checkbox" data-test="show-patches" /> Show the patches<span
          v-if="told"
          class="quiet num"
          data-test="patches-told"
          >{{ told.area_mm2.toFixed(0) }}&#8201;mm²<template v-if="told.spanned_flat"
            >, {{ told.spanned_flat }} only flat</template
          ></span
        ><span v-else-if="shown && live.refused.value" class="quiet">{{ live.refused.value }}</span
        ><span v-else-if="shown && chosen" class="quiet">Working them out…</span></label
      >
    </template>
    <button
      :class="main ? 'main-button' : 'plain-button'"
      :disabled="busy || !chosen || bench.busy.value"
      type="submit"
      data-test="close-holes"
    >
      Close {{ chosen || '' }} {{ chosen === 1 ? 'hole' : 'holes' }}
    </button>
  </form>
</template>

<style scoped>
p {
  margin: 0;
}
ul {
  max-height: 220px;
  overflow: auto;
}
li {
  display: grid;
  grid-template-columns: 44px 62px 1fr auto;
  gap: 6px;
  align-items: center;
  padding: 3px 0;
  border-top: var(--hair);
}
li small {
  white-space: normal;
  text-align: left;
}
li .link {
  min-width: 28px;
  min-height: 24px;
}
.acts {
  display: flex;
  flex-wrap: wrap;
  gap: 6px;
  align-items: center;
}
.acts .plain-button {
  padding: 3px 8px;
}
.show {
  display: flex;
  gap: 6px;
  align-items: baseline;
}
.show span {
  margin-left: auto;
}
.size input {
  width: 52px;
}
</style>
