import type { StageDefinition } from '@/bench/stages/definition'

export const colour: StageDefinition = {
  name: 'colour',
  title: 'Colour',
  question: 'Is the colour laid and even?',
}
