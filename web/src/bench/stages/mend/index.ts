import SurfaceForm from '@/bench/marks/SurfaceForm.vue'
import { surfaceTools } from '@/bench/marks/tools'
import { opens, type StageDefinition } from '@/bench/stages/definition'
import CheckForm from '@/bench/stages/mend/CheckForm.vue'
import HolesForm from '@/bench/stages/mend/HolesForm.vue'
import SimplifyForm from '@/bench/stages/mend/SimplifyForm.vue'
import { bridge, takeRims } from '@/bench/stages/mend/takeRims'

export const mend: StageDefinition = {
  name: 'mend',
  title: 'Mend',
  question: 'Is the mesh fit for its use?',
  cards: {
    simplify: SimplifyForm,
    patch_holes: HolesForm,
    heal: SurfaceForm,
    smooth: SurfaceForm,
    print_check: CheckForm,
    engine_check: CheckForm,
  },
  within: ['simplify_curve'],
  runs: {
    patch_holes: opens('mend', 'patch_holes'),
    heal: opens('mend', 'heal'),
  },
  tools: [takeRims, bridge, ...surfaceTools('mend')],
}
