<script setup lang="ts">
import type { FormatView, MeshFigures, PassFigures } from '@/api/client'
import { count, percent } from '@/composables/format'

defineProps<{
  mesh: MeshFigures | null
  points: number
  passes: PassFigures[]
  objectId: string
  formats: FormatView[]
}>()
const KINDS = [
  { name: 'ply', label: 'PLY' },
  { name: 'xyz', label: 'XYZ' },
  { name: 'e57', label: 'E57' },
  { name: 'capture', label: 'Capture' },
]
/** What a pass can be taken away as: only frames make a capture folder. */
const kindsOf = (pass: PassFigures) => KINDS.filter((k) => k.name !== 'capture' || !pass.points)
</script>

<template>
  <section class="deliver">
    <p v-if="!mesh" class="quiet">There is no mesh yet. Fuse the passes first, or run a recipe.</p>
    <template v-else>
      <h3>The surface as it is</h3>
      <p class="quiet">
        {{ count(mesh.triangles) }} triangles, {{ mesh.watertight ? 'watertight' : 'not watertight' }},
        {{ percent(mesh.made_up_area_fraction) }} made up.
      </p>
      <a
        v-for="format in formats"
        :key="format.name"
        class="plain-button"
        :href="`/api/objects/${objectId}/download/${format.name}`"
        :data-test="`download-${format.name}`"
        download
      >
        <b>{{ format.name.toUpperCase() }}</b><span class="quiet">{{ format.help }}</span>
      </a>
    </template>
    <a
      v-if="points"
      class="plain-button"
      :href="`/api/objects/${objectId}/download/points`"
      data-test="download-points"
      download
    >
      <b>Points</b><span class="quiet">{{ count(points) }}, PLY with normals and colours</span>
    </a>
    <template v-if="passes.length">
      <h3>Single passes</h3>
      <div v-for="(pass, n) in passes" :key="pass.capture" class="pass" data-test="pass-download">
        <span class="title">{{ pass.title }}</span>
        <a
          v-for="kind in kindsOf(pass)"
          :key="kind.name"
          class="link"
          :href="`/api/objects/${objectId}/passes/${n}/download/${kind.name}`"
          :aria-label="`${pass.title} as ${kind.label}`"
          download
          >{{ kind.label }}</a
        >
      </div>
    </template>
  </section>
</template>

<style scoped>
.deliver {
  display: flex;
  flex-direction: column;
  gap: 8px;
  padding: 12px 16px;
}
.plain-button {
  display: flex;
  gap: 10px;
  color: var(--ink);
}
h3 {
  font-size: 14px;
  font-weight: 500;
  margin-top: 6px;
}
.pass {
  display: flex;
  gap: 12px;
  align-items: baseline;
}
.title {
  flex: 1;
  overflow: hidden;
  text-overflow: ellipsis;
  white-space: nowrap;
}
a b {
  width: 40px;
}
a span {
  font-weight: 400;
}
</style>
