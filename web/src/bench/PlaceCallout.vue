<script setup lang="ts">
import { computed } from 'vue'
import { useBenchContext } from '@/bench/context'

const { bench, view } = useBenchContext()
const place = view.place
const pass = computed(() => bench.bench.value?.passes[place.value?.pass ?? -1]?.title)
const pixel = computed(() => {
  const width = bench.bench.value?.passes[place.value?.pass ?? -1]?.width
  const n = place.value?.pixel
  return n == null || !width ? '' : `${n % width}, ${Math.floor(n / width)}`
})
</script>

<template>
  <dl v-if="place" class="figures afloat" role="status" data-test="place">
    <dt>Place</dt>
    <dd class="num">{{ place.place.map((v) => v.toFixed(2)).join(', ') }}&thinsp;mm</dd>
    <template v-if="place.normal">
      <dt>Faces</dt>
      <dd class="num">{{ place.normal.map((v) => v.toFixed(2)).join(', ') }}</dd>
    </template>
    <template v-if="pass">
      <dt>Pass</dt>
      <dd>{{ pass }}</dd>
      <dt>Frame</dt>
      <dd class="num">{{ (place.frame ?? 0) + 1 }}</dd>
      <dt>Pixel</dt>
      <dd class="num">{{ pixel }}</dd>
    </template>
    <button class="link" @click="view.place.value = null">Close</button>
  </dl>
</template>

<style scoped>
.afloat {
  right: 12px;
  top: 12px;
}
button {
  justify-self: start;
}
</style>
