<script setup lang="ts">
import { computed } from 'vue'

/**
 * How places lie about a reference: shares by their distance, inside on the left and outside on the right. One-sided: shares
 * by a size, from nothing on.
 */
const props = defineProps<{ bins: number[]; range: number; band: number; oneSided?: boolean }>()
const highest = computed(() => Math.max(...props.bins, 1e-9))
/** Distance (mm) at the middle of a bar. */
const at = (n: number) => {
  const share = (n + 0.5) / props.bins.length
  return (props.oneSided ? share : 2 * share - 1) * props.range
}
const kind = (n: number) => (Math.abs(at(n)) <= props.band ? 'within' : at(n) < 0 ? 'inside' : 'outside')
</script>

<template>
  <figure role="img" :aria-label="`Spread over ${range.toFixed(2)} mm${oneSided ? '' : ' to both sides'}`">
    <div class="bars">
      <i
        v-for="(share, n) in bins"
        :key="n"
        :class="kind(n)"
        :style="{ height: `${Math.max((share / highest) * 46, share ? 1 : 0)}px` }"
      />
    </div>
    <figcaption v-if="oneSided" class="num">
      <span>0</span><span>± {{ range.toFixed(3) }}&#8201;mm</span>
    </figcaption>
    <figcaption v-else class="num">
      <span>−{{ range.toFixed(2) }}</span
      ><span>inside · outside</span><span>+{{ range.toFixed(2) }}&#8201;mm</span>
    </figcaption>
  </figure>
</template>

<style scoped>
figure {
  margin: 0;
}
.bars {
  display: flex;
  align-items: flex-end;
  gap: 1px;
  height: 48px;
  border-bottom: var(--hair);
}
.bars i {
  flex: 1;
}
.inside {
  background: #2a5f96;
}
.outside {
  background: var(--ochre-ink);
}
.within {
  background: var(--ink-3);
}
figcaption {
  display: flex;
  justify-content: space-between;
  color: var(--ink-2);
  font-size: 12px;
}
</style>
