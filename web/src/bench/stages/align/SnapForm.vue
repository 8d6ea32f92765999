<script setup lang="ts">
import InputNumber from 'primevue/inputnumber'
import * as THREE from 'three'
import { computed, onBeforeUnmount, onMounted } from 'vue'
import { useBenchContext } from '@/bench/context'
import { snappingPart } from '@/bench/stages/align/snapping'
import { DRAG } from '@/bench/stages/align/tools'
import { turnedAbout } from '@/bench/viewer/tools/DragPass'
import { mm, percent } from '@/composables/format'

/** A pass dragged near the others, and what becomes of it when it is let go. */
defineProps<{ busy: boolean; main: boolean }>()
const context = useBenchContext()
const { bench, view, live } = context
const snap = snappingPart(context)
const { title, figures } = snap
const titles = computed(() => (bench.bench.value?.passes ?? []).map((p) => p.title))
const STEP_MM = 1
const STEP_DEG = 5
const STEPS = [
  ['←', 'Shift it left', 0, -1, 'shift'],
  ['→', 'Shift it right', 0, 1, 'shift'],
  ['↑', 'Shift it up', 1, 1, 'shift'],
  ['↓', 'Shift it down', 1, -1, 'shift'],
  ['⊙', 'Shift it nearer', 2, 1, 'shift'],
  ['⊗', 'Shift it farther off', 2, -1, 'shift'],
  ['↷', 'Turn it round to the right', 1, 1, 'turn'],
  ['↶', 'Turn it round to the left', 1, -1, 'turn'],
  ['⤵', 'Tip it towards you', 0, 1, 'turn'],
  ['⤴', 'Tip it away from you', 0, -1, 'turn'],
  ['⟲', 'Roll it to the left', 2, 1, 'turn'],
  ['⟳', 'Roll it to the right', 2, -1, 'turn'],
] as const
let modeBefore = view.mode.value

/** One step by a key, along or about an axis of the picture. */
function step(axis: number, sign: number, how: 'shift' | 'turn') {
  const viewer = view.viewer.value
  if (!viewer) return
  const way = new THREE.Vector3().setFromMatrixColumn(viewer.camera.matrixWorld, axis)
  if (how === 'shift') snap.move(new THREE.Matrix4().makeTranslation(way.multiplyScalar(sign * STEP_MM)))
  else {
    const middle = viewer.points.sphere(snap.moving.value)?.center ?? new THREE.Vector3()
    const turn = new THREE.Matrix4().makeRotationAxis(way, THREE.MathUtils.degToRad(sign * STEP_DEG))
    snap.move(turnedAbout(middle, turn))
  }
}
onMounted(() => {
  modeBefore = view.mode.value
  view.mode.value = 'passes'
  snap.active.value = true
  if (view.tool.value?.card !== DRAG.card) view.use(DRAG)
})
onBeforeUnmount(() => {
  snap.active.value = false
  view.mode.value = modeBefore
  if (view.tool.value?.card === DRAG.card) view.use(null)
})
</script>

<template>
  <form class="card-form" data-test="snap-form" @submit.prevent="snap.use()">
    <label class="field">
      <span>Place</span>
      <select v-model="snap.wanted.value" data-test="snap-pass">
        <option value="">{{ title }}</option>
        <option v-for="t in titles.filter((t) => t !== title)" :key="t" :value="t">{{ t }}</option>
      </select>
    </label>
    <div class="steps" role="group" :aria-label="`Move ${title} in steps`">
      <button
        v-for="[sign, words, axis, way, how] in STEPS"
        :key="words"
        type="button"
        class="plain-button"
        :title="`${words} by ${how === 'shift' ? `${STEP_MM} mm` : `${STEP_DEG}°`}`"
        :aria-label="`${words} by ${how === 'shift' ? `${STEP_MM} mm` : `${STEP_DEG}°`}`"
        @click="step(axis, way, how)"
      >
        {{ sign }}
      </button>
    </div>
    <label class="field">
      <span title="How far it may snap; 0 takes a tenth of its size">Reach</span>
      <InputNumber
        v-model="snap.reach.value"
        :min="0"
        :max="200"
        :max-fraction-digits="1"
        suffix=" mm"
        input-id="snap-reach"
        class="reach"
        aria-label="How far it may snap, in mm"
      />
    </label>
    <dl v-if="figures" role="status" data-test="snap-figures">
      <dt>Common as it is held</dt>
      <dd class="num">{{ percent(figures.here, 0) }}</dd>
      <dt>Common once snapped</dt>
      <dd class="num">{{ percent(figures.overlap, 0) }}</dd>
      <dt>Residual then</dt>
      <dd class="num">{{ mm(figures.rms_mm, 3) }}</dd>
      <dt>From here</dt>
      <dd class="num">{{ figures.turned_deg.toFixed(1) }}° · {{ mm(figures.shifted_mm, 1) }}</dd>
    </dl>
    <p class="quiet" role="status">
      {{
        live.refused.value ||
        (figures && !figures.common
          ? 'Too little is common there: drag it nearer.'
          : 'Drag it near where it belongs; with Shift it turns.')
      }}
    </p>
    <label class="ticked">
      <input v-model="snap.trust.value" type="checkbox" />
      Place it even where the surfaces speak against it
    </label>
    <div class="acts">
      <button
        type="button"
        class="plain-button"
        :disabled="!snap.dragged.value"
        data-test="snap-back"
        @click="snap.putBack()"
      >
        Put back
      </button>
      <button :class="main ? 'main-button' : 'plain-button'" :disabled="busy" type="submit" data-test="snap">
        Snap
      </button>
    </div>
  </form>
</template>

<style scoped>
.steps {
  display: grid;
  grid-template-columns: repeat(6, 1fr);
  gap: 4px;
}
.steps button {
  padding: 4px 0;
  min-width: 0;
}
.reach :deep(input) {
  width: 96px;
}
dl {
  display: grid;
  grid-template-columns: 1fr auto;
  gap: 2px 12px;
  margin: 0;
}
dt {
  color: var(--ink-2);
}
dd {
  margin: 0;
}
.acts {
  display: grid;
  grid-template-columns: auto 1fr;
  gap: 8px;
}
</style>
