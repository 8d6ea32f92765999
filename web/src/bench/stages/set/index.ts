import { surfaceTools } from '@/bench/marks/tools'
import AccuracyForm from '@/bench/stages/set/AccuracyForm.vue'
import DeviationForm from '@/bench/stages/set/DeviationForm.vue'
import LengthsForm from '@/bench/stages/set/LengthsForm.vue'
import ScaleForm from '@/bench/stages/set/ScaleForm.vue'
import StandForm from '@/bench/stages/set/StandForm.vue'
import { spot, tiltFloor } from '@/bench/stages/set/tools'
import { opens, type StageDefinition } from '@/bench/stages/definition'

export const set: StageDefinition = {
  name: 'set',
  title: 'Set',
  question: 'Does it stand upright?',
  cards: {
    stand_up: StandForm,
    set_scale: ScaleForm,
    measure: LengthsForm,
    deviation: DeviationForm,
    accuracy: AccuracyForm,
  },
  within: ['take_off_length'],
  runs: {
    set_scale: opens('set', 'set_scale'),
    measure: opens('set', 'measure'),
    deviation: opens('set', 'deviation'),
    accuracy: opens('set', 'accuracy'),
  },
  tools: [tiltFloor, spot, ...surfaceTools('set')],
}
