<script setup lang="ts">
import { useBenchContext } from '@/bench/context'
import { MODES } from '@/bench/useView'

const { view } = useBenchContext()
const { mode, textured, wireframe, over } = view
</script>

<template>
  <div class="modes" role="group" aria-label="What the view shows">
    <button
      v-for="m in MODES"
      :key="m.name"
      :aria-pressed="mode === m.name"
      :title="`${m.label} (${m.key})`"
      :data-test="`mode-${m.name}`"
      @click="mode = m.name"
    >
      {{ m.label }}
    </button>
    <span class="gap" />
    <button
      :aria-pressed="textured"
      title="Colour on or off (X)"
      data-test="toggle-texture"
      @click="textured = !textured"
    >
      Photos
    </button>
    <button
      :aria-pressed="wireframe"
      title="Wireframe (W)"
      data-test="toggle-wire"
      @click="wireframe = !wireframe"
    >
      Wires
    </button>
    <button
      :aria-pressed="over"
      title="Raw points over the surface (Shift+W)"
      data-test="toggle-over"
      @click="over = !over"
    >
      Raw points
    </button>
  </div>
</template>

<style scoped>
.modes .gap {
  width: 1px;
  background: var(--rule);
  margin: 3px 5px;
}
.modes .gap ~ button[aria-pressed='true'] {
  background: var(--sunk);
  color: var(--ink);
}
</style>
