<script setup lang="ts">
import { computed } from 'vue'
import { useBenchContext } from '@/bench/context'
import { handPart } from '@/bench/stages/capture/hand/hand'
import PaceRail from '@/bench/stages/capture/hand/PaceRail.vue'
import SightColumn from '@/bench/stages/capture/SightColumn.vue'
import SightPhoto from '@/bench/stages/capture/SightPhoto.vue'
import DepthHill from '@/components/DepthHill.vue'
import GripStar from '@/components/GripStar.vue'
import { mm, percent } from '@/composables/format'

const CLIPPED_BYTE = 250
const context = useBenchContext()
const { live } = context
const { figures } = context.part('hand', handPart)

const photo = computed(() => {
  const layer = live.hand.value?.layers.find((l) => l.kind === 'hand')
  const [, width] = (layer?.photo as number[] | undefined) ?? [0, 0]
  if (!layer || !width) return null
  const photograph = layer.arrays.photo as Uint8Array
  const marks = new Uint8Array(photograph.length / 3)
  for (let n = 0; n < marks.length; n++)
    if (Math.max(photograph[3 * n], photograph[3 * n + 1], photograph[3 * n + 2]) >= CLIPPED_BYTE)
      marks[n] = 1
  return { photograph, marks, width }
})
const weak = computed(() => figures.value?.grip?.weak ?? [])
const grip = computed(() =>
  !figures.value?.grip ? 'nothing is seen' : weak.value.length ? weak.value.join(', ') : 'held all ways',
)
const star = computed(() => {
  if (!weak.value.length) return 'Thin spokes are turns.'
  return figures.value?.markers
    ? 'Its shape would slip that way; the markers hold it.'
    : 'May slip that way unless its colours hold it.'
})
</script>

<template>
  <SightColumn test="hand-sight">
    <p v-if="!figures" class="quiet">The first frame is on its way…</p>
    <template v-else>
      <SightPhoto
        v-if="photo"
        v-bind="photo"
        :says="`${percent(figures.clipped)} clipped`"
        label="Photograph of the newest frame, clipped light hatched"
      />
      <h2>
        Distance <span class="num">{{ mm(figures.distance_mm, 0) }}</span>
      </h2>
      <DepthHill :hill="figures.hill" :span="figures.span_mm" :band="figures.slot_mm" />
      <p class="quiet">The hill is what is seen; keep it in the slot.</p>
      <h2>
        Grip <span :class="{ weak: weak.length }">{{ grip }}</span>
      </h2>
      <div v-if="figures.grip" class="grip">
        <GripStar :slide="figures.grip.slide" :turn="figures.grip.turn" />
        <p class="quiet">
          {{ star }}
        </p>
      </div>
      <template v-if="figures.markers">
        <h2>
          Markers
          <span :class="{ weak: figures.markers.held < figures.markers.wanted }" data-test="markers-held">{{
            figures.markers.held
          }}</span>
        </h2>
        <ol class="dots" aria-hidden="true">
          <li
            v-for="n in Math.max(figures.markers.wanted, figures.markers.held)"
            :key="n"
            :class="{ held: n <= figures.markers.held, more: n > figures.markers.wanted }"
          />
        </ol>
        <p class="quiet">
          in view and known, of {{ figures.markers.known }}; keep {{ figures.markers.wanted }} in view.
        </p>
      </template>
      <h2>
        Pace <span class="num">{{ figures.pace_mm_s.toFixed(0) }} mm/s</span>
      </h2>
      <PaceRail :pace="figures.pace" />
    </template>
  </SightColumn>
</template>

<style scoped>
.dots {
  display: flex;
  flex-wrap: wrap;
  gap: 5px;
  margin: 4px 0;
  padding: 0;
  list-style: none;
}
.dots li {
  width: 11px;
  height: 11px;
  border: 1.5px solid var(--ink-2);
  border-radius: 50%;
}
.dots .held {
  border-color: var(--verdigris);
  background: var(--verdigris);
}
.dots .more {
  opacity: 0.55;
}
h2 .weak {
  color: var(--ochre-ink);
  font-weight: 600;
}
</style>
