<script setup lang="ts">
import { useBenchContext } from '@/bench/context'
import { takesPart } from '@/bench/stages/fuse/takes'
import { count, percent } from '@/composables/format'

const context = useBenchContext()
const { bench, view } = context
const { how } = context.part('takes', takesPart)
const shown = bench.bench
</script>

<template>
  <dl
    v-if="shown?.mesh && !how && !['coverage', 'shift', 'slice'].includes(view.mode.value)"
    class="figures afloat"
    data-test="figures"
  >
    <dt>Size</dt>
    <dd class="num">{{ shown.mesh.size_mm.map((v) => v.toFixed(1)).join(' × ') }}&thinsp;mm</dd>
    <dt>Triangles</dt>
    <dd class="num">{{ count(shown.mesh.triangles) }}</dd>
    <dt>Watertight</dt>
    <dd class="num">{{ shown.mesh.watertight ? 'yes' : `no, ${shown.mesh.holes.count} holes` }}</dd>
    <dt v-if="shown.mesh.volume_mm3">Volume</dt>
    <dd v-if="shown.mesh.volume_mm3" class="num">
      {{ (shown.mesh.volume_mm3 / 1000).toFixed(2) }}&thinsp;cm³
    </dd>
    <dt>Made up</dt>
    <dd class="num">{{ percent(shown.mesh.made_up_area_fraction) }}</dd>
    <template v-if="view.mode.value === 'made-up'"
      ><dt class="legend"><i class="measured" />measured</dt>
      <dd class="legend"><i class="made" />made up</dd></template
    >
  </dl>
</template>

<style scoped>
.afloat {
  left: 12px;
  bottom: 12px;
}
.legend {
  display: flex;
  align-items: center;
  gap: 6px;
}
.legend i {
  width: 11px;
  height: 11px;
  border-radius: 2px;
}
.measured {
  background: #4d6f93;
}
.made {
  background: #c98a24;
}
</style>
