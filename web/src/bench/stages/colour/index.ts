import SurfaceForm from '@/bench/marks/SurfaceForm.vue'
import { surfaceTools } from '@/bench/marks/tools'
import AdjustForm from '@/bench/stages/colour/AdjustForm.vue'
import LayForm from '@/bench/stages/colour/LayForm.vue'
import { white, whichPhotograph } from '@/bench/stages/colour/tools'
import { opens, type StageDefinition } from '@/bench/stages/definition'

export const colour: StageDefinition = {
  name: 'colour',
  title: 'Colour',
  question: 'Is the colour laid and even?',
  cards: { lay_colour: LayForm, adjust_colour: AdjustForm, heal_colour: SurfaceForm },
  runs: {
    adjust_colour: opens('colour', 'adjust_colour'),
    heal_colour: opens('colour', 'heal_colour'),
  },
  tools: [white, whichPhotograph, ...surfaceTools('colour')],
}
