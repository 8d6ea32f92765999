<script setup lang="ts">
import { useBenchContext } from '@/bench/context'
import { shiftPart } from '@/bench/useShift'
import { FAR, PALE } from '@/bench/viewer/layers/points'
import { percent } from '@/composables/format'
import { swatchOf } from '@/lib/tokens'

/** What the colours of the view Shift say, and how far each pass lies off the others. */
const context = useBenchContext()
const { bench, view } = context
const { told, range } = context.part('shift', shiftPart)
const hue = (title: string) => swatchOf(bench.bench.value?.passes ?? [], title)
</script>

<template>
  <section v-if="view.mode.value === 'shift'" class="afloat-card" data-test="shift" aria-label="Shift">
    <header><b>Shift between passes</b></header>
    <p v-if="!told.length" class="quiet" role="status">Measuring how far the passes lie apart…</p>
    <template v-else>
      <div class="scale" :style="{ background: `linear-gradient(90deg, ${PALE}, ${FAR})` }" />
      <div class="ends">
        <span>0</span><span class="num">{{ range.toFixed(2) }}&#8201;mm</span>
      </div>
      <p class="quiet">Striped: inside of what the others saw. Grey: seen by no other.</p>
      <dl class="figures">
        <template v-for="t in told" :key="t.title">
          <dt><i :style="{ background: hue(t.title) }" />{{ t.title }}</dt>
          <dd
            class="num"
            :title="`Half lie nearer than the first, 95 % than the second; ${percent(t.known, 0)} were seen by others`"
          >
            {{ t.known ? `${t.half.toFixed(3)} · ${t.most.toFixed(3)}\u2009mm` : 'alone' }}
          </dd>
        </template>
      </dl>
    </template>
  </section>
</template>

<style scoped>
.scale {
  height: 8px;
  border-radius: 2px;
}
.ends {
  display: flex;
  justify-content: space-between;
  color: var(--ink-2);
  font-size: 11.5px;
}
i {
  display: inline-block;
  width: 9px;
  height: 9px;
  margin-right: 6px;
  border-radius: 2px;
}
p {
  margin: 2px 0;
}
</style>
