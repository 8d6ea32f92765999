import type { ToolDefinition } from '@/bench/stages/definition'
import { holesPart } from '@/bench/stages/mend/holes'
import { TakeRims } from '@/bench/viewer/tools/TakeRims'

/** Rims are taken or left by clicks in the view. */
export const takeRims: ToolDefinition = {
  name: 'take-rims',
  title: 'Take rims',
  key: 'Shift+I',
  hint: 'Click a rim to take the hole or to leave it open.',
  card: 'patch_holes',
  make: (context) => (view) =>
    new TakeRims(view, context.view.viewer.value!.rims, context.part('holes', holesPart).turn),
}

/** A strip is laid across a hole by two clicks on its rim. */
export const bridge: ToolDefinition = {
  name: 'bridge',
  title: 'Bridge',
  key: 'Shift+B',
  hint: 'Click a rim where a strip begins, then where it ends.',
  card: 'patch_holes',
  make: (context) => (view) =>
    new TakeRims(view, context.view.viewer.value!.rims, context.part('holes', holesPart).tie),
}
