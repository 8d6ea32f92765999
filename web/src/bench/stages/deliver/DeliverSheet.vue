<script setup lang="ts">
import type { FormatView, MeshFigures } from '@/api/client'
import { count, percent } from '@/composables/format'

defineProps<{ mesh: MeshFigures | null; points: number; objectId: string; formats: FormatView[] }>()
</script>

<template>
  <section class="deliver">
    <p v-if="!mesh" class="quiet">There is no mesh yet. Fuse the passes first, or run a recipe.</p>
    <template v-else>
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
  </section>
</template>

<style scoped>
.deliver {
  display: flex;
  flex-direction: column;
  gap: 8px;
  padding: 12px 16px;
}
a {
  display: flex;
  gap: 10px;
  color: var(--ink);
}
a b {
  width: 40px;
}
a span {
  font-weight: 400;
}
</style>
