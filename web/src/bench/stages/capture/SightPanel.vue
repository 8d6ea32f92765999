<script setup lang="ts">
import { computed, onBeforeUnmount, watch } from 'vue'
import { useBenchContext } from '@/bench/context'
import { sightHandle, type SightFigures } from '@/bench/stages/capture/sight'
import SightColumn from '@/bench/stages/capture/SightColumn.vue'
import SightPhoto from '@/bench/stages/capture/SightPhoto.vue'
import DepthHill from '@/components/DepthHill.vue'
import GripStar from '@/components/GripStar.vue'
import { mm, percent } from '@/composables/format'

const REASONS: Record<string, string> = {
  dark: 'Too dark',
  glossy: 'Glossy',
  clear: 'Clear or glaring',
  steep: 'Too steep',
  range: 'Out of range',
  hidden: 'Hidden from the light',
}
const LEAST = 0.005

const context = useBenchContext()
const { live } = context
const handle = context.part('sight', sightHandle)
const seen = computed(() => live.sight.value)
const figures = computed(() => seen.value?.figures as unknown as SightFigures | undefined)
const lost = computed(() =>
  Object.entries(figures.value?.drop_out ?? {})
    .filter(([, share]) => share >= LEAST)
    .sort((a, b) => b[1] - a[1]),
)
const lostInAll = computed(() => Object.values(figures.value?.drop_out ?? {}).reduce((a, b) => a + b, 0))

/** What would hold the pass against what may slip; null where the axis or markers do already. */
const would = computed<'axis' | 'markers' | null>(() => {
  const by = handle.setUp.value?.held_by
  if (figures.value?.by_hand) return by === 'markers' ? null : 'markers'
  return by === 'shape' ? 'axis' : null
})
const holds = computed(() =>
  handle.setUp.value?.held_by === 'markers' ? 'The markers hold' : 'The table’s axis holds',
)
const exposures = computed(() => handle.setUp.value?.exposure_ms ?? [])
const gate = computed(() => (handle.setUp.value?.gate_mm as [number, number] | undefined) ?? null)
watch(handle.setUp, (setUp) => live.look(setUp), { immediate: true })
onBeforeUnmount(() => live.look(null))
const photo = computed(() => {
  const layer = seen.value?.layers[0]
  if (!layer) return null
  const { photograph, marks } = layer.arrays as Record<string, Uint8Array>
  return { photograph, marks, width: layer.width as number }
})
</script>

<template>
  <SightColumn test="sight">
    <p v-if="live.sightRefused.value" class="fault" role="alert">{{ live.sightRefused.value }}</p>
    <p v-else-if="!figures" class="quiet">Looking through the head…</p>
    <template v-if="figures">
      <SightPhoto
        v-if="photo"
        v-bind="photo"
        :says="`${percent(figures.clipped)} clipped`"
        label="Photograph with clipped and dark places hatched"
      />
      <div class="light" aria-hidden="true">
        <i
          v-for="(share, n) in figures.light"
          :key="n"
          :style="{ height: `${Math.min(share * 400, 100)}%` }"
        />
      </div>
      <dl v-if="figures.valid && figures.valid.length > 1" class="figures" data-test="exposures">
        <template v-for="(share, n) in figures.valid" :key="n"
          ><dt>Measured at {{ exposures[n] }} ms</dt>
          <dd class="num">{{ percent(share, 1) }}</dd></template
        >
        <dt><b>Merged</b></dt>
        <dd class="num">
          <b>{{ percent(figures.valid_merged ?? 0, 1) }}</b>
        </dd>
      </dl>
      <h2>
        Distance <span class="num">{{ mm(figures.distance_mm, 0) }}</span>
      </h2>
      <DepthHill
        :hill="figures.hill"
        :span="figures.span_mm"
        :band="figures.slot_mm"
        :gate="gate"
        @gate="(to) => (handle.gate.value = to)"
      />
      <p v-if="figures.why" class="quiet">{{ figures.why }}</p>
      <template v-if="figures.grip">
        <h2>
          Grip <span>{{ figures.grip.slips.length ? '' : 'held all ways' }}</span>
        </h2>
        <div class="grip">
          <GripStar :slide="figures.grip.slide" :turn="figures.grip.turn" />
          <p v-if="figures.grip.slips.length">
            <b v-for="s in figures.grip.slips" :key="s.words">{{ s.words }}: may slip</b>
            <template v-if="!would">{{ holds }} it.</template>
            <button
              v-else
              class="link"
              :data-test="`hold-by-${would}`"
              @click="handle.held.value = { by: would }"
            >
              Hold it by {{ would === 'axis' ? 'the axis' : 'markers' }}
            </button>
          </p>
          <p v-else class="quiet">Long spokes are motions that the shape holds; thin ones are turns.</p>
        </div>
        <h2>
          Will not be measured <span class="num">{{ percent(lostInAll, 0) }}</span>
        </h2>
        <dl class="figures">
          <template v-for="[reason, share] in lost" :key="reason"
            ><dt>{{ REASONS[reason] }}</dt>
            <dd class="num">{{ percent(share, 0) }}</dd></template
          >
        </dl>
        <p v-for="line in figures.advice?.slice(0, 2)" :key="line" class="quiet">{{ line }}</p>
      </template>
    </template>
  </SightColumn>
</template>

<style scoped>
.light {
  display: flex;
  align-items: flex-end;
  gap: 1px;
  height: 26px;
  border-bottom: var(--hair);
}
.light i {
  flex: 1;
  background: var(--ink-3);
}
.light i:last-child {
  background: var(--mark);
}
.grip b {
  display: block;
  color: var(--ochre-ink);
}
.fault {
  color: var(--oxblood);
}
.figures {
  font-size: 12.5px;
}
</style>
