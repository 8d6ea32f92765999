<script setup lang="ts">
import { computed, ref } from 'vue'
import { begin } from '@/bench/actions/operations'
import { useBenchContext } from '@/bench/context'
import { findings } from '@/bench/findings'
import { replayingPart } from '@/bench/sheet/replaying'
import ReplayBar from '@/bench/sheet/ReplayBar.vue'
import { savingPart } from '@/bench/sheet/saving'
import { takesPart } from '@/bench/stages/fuse/takes'
import type { StepView } from '@/api/client'
import BranchList from '@/components/BranchList.vue'
import FindingsPanel from '@/components/FindingsPanel.vue'
import RunSheet from '@/components/RunSheet.vue'

const context = useBenchContext()
const { bench, stage, goTo } = context
const { bench: shown, catalogue, busy } = bench
const { at, show } = findings(context)
const sheet = replayingPart(context)
const saving = savingPart(context)
const takes = context.part('takes', takesPart)
const listed = ref(false)
const titles = computed(() =>
  Object.fromEntries((catalogue.value?.operations ?? []).map((o) => [o.name, o.title])),
)
const changeable = computed(() => (catalogue.value?.operations ?? []).map((o) => o.name))
const marked = computed(() =>
  Object.fromEntries(
    sheet.changes.value.map((c) => [c.step.id, c.parameters ? ('changed' as const) : ('left out' as const)]),
  ),
)
/** Whether the details of the last step stand open: looking at it is looking at the object as it is. */
const lastOpen = ref(false)
const branches = computed(() => listed.value && (shown.value?.branches.length ?? 0) > 1)
const steps = computed(() => shown.value?.steps ?? [])
const last = computed(() => steps.value.filter((s) => !s.undone).slice(-1)[0])
const opened = computed(() => {
  if (bench.changed.value) return 0
  if (bench.at.value) return steps.value.find((s) => s.after === bench.at.value)?.id ?? 0
  return lastOpen.value ? (last.value?.id ?? 0) : 0
})
/** A step that stands open is folded, and the object shown as it is. */
function look(step: StepView) {
  const closing = step.id === opened.value
  const isLast = step.id === last.value?.id
  lastOpen.value = isLast && !closing
  void bench.lookAt(closing || isLast ? null : step.after)
}
</script>

<template>
  <FindingsPanel
    :findings="shown?.findings ?? []"
    :accepted="shown?.accepted ?? []"
    :stage="stage"
    :titles="titles"
    :busy="busy"
    :may-accept="!bench.lookOnly.value && !bench.lookingBack.value"
    :empty="!shown?.passes.length"
    :looked="shown?.looked ?? true"
    :at="at"
    @show="show"
    @mend="(o) => begin(context, o)"
    @go="goTo"
    @accept="(f, word) => bench.acceptFinding(f.name, word)"
    @mind="(a) => bench.mindFinding(a.id)"
  />
  <RunSheet
    :steps="steps"
    :busy="busy"
    :opened="opened"
    :marked="marked"
    :changeable="changeable"
    :branches="shown?.branches.length ?? 0"
    :tall="branches || sheet.changes.value.length > 0"
    :branch="shown?.branches.find((b) => b.current)?.name ?? ''"
    @undo="bench.move('undo')"
    @redo="bench.move('redo')"
    @look="look"
    @go-on="(s) => bench.goOn({ snapshot: s.after })"
    @change="sheet.change"
    @leave-out="sheet.leaveOut"
    @as-it-was="sheet.asItWas"
    @branches="listed = !listed"
    @save="saving.begin"
  >
    <ReplayBar />
    <BranchList
      v-if="branches"
      :branches="shown!.branches"
      :busy="busy"
      :comparing="takes.how.value != null"
      @go="(id) => bench.goOn({ branch: id })"
      @name="bench.nameBranch"
      @throw-away="bench.throwBranchAway"
      @compare="(b) => takes.beginBranches(b.name)"
      @close="listed = false"
    />
  </RunSheet>
</template>
