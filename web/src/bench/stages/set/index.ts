import { surfaceTools } from '@/bench/marks/tools'
import LengthsForm from '@/bench/stages/set/LengthsForm.vue'
import ScaleForm from '@/bench/stages/set/ScaleForm.vue'
import StandForm from '@/bench/stages/set/StandForm.vue'
import { spot } from '@/bench/stages/set/tools'
import { opens, type StageDefinition } from '@/bench/stages/definition'

export const set: StageDefinition = {
  name: 'set',
  title: 'Set',
  question: 'Does it stand upright?',
  cards: { stand_up: StandForm, set_scale: ScaleForm, measure: LengthsForm },
  within: ['take_off_length'],
  runs: {
    set_scale: opens('set', 'set_scale'),
    measure: opens('set', 'measure'),
  },
  tools: [spot, ...surfaceTools('set')],
}
