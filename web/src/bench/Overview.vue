<script setup lang="ts">
import { computed } from 'vue'
import { begin } from '@/bench/actions/operations'
import { useBenchContext } from '@/bench/context'
import FindingsPanel from '@/components/FindingsPanel.vue'
import RunSheet from '@/components/RunSheet.vue'

const context = useBenchContext()
const { bench, view, stage, goTo } = context
const { bench: shown, catalogue, busy } = bench
const titles = computed(() =>
  Object.fromEntries((catalogue.value?.operations ?? []).map((o) => [o.name, o.title])),
)
</script>

<template>
  <FindingsPanel
    :findings="shown?.findings ?? []"
    :stage="stage"
    :titles="titles"
    :busy="busy"
    :empty="!shown?.passes.length"
    @show="(place) => view.viewer.value?.flyTo(place)"
    @mend="(o) => begin(context, o)"
    @go="goTo"
  />
  <RunSheet :steps="shown?.steps ?? []" :busy="busy" @undo="bench.move('undo')" @redo="bench.move('redo')" />
</template>
