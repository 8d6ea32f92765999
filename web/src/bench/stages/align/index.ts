import type { StageDefinition } from '@/bench/stages/definition'

export const align: StageDefinition = {
  name: 'align',
  title: 'Align',
  question: 'Do the passes lie where they belong?',
}
