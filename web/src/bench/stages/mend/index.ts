import type { StageDefinition } from '@/bench/stages/definition'
import PrintForm from '@/bench/stages/mend/PrintForm.vue'

export const mend: StageDefinition = {
  name: 'mend',
  title: 'Mend',
  question: 'Is the mesh fit for its use?',
  cards: { print_check: PrintForm },
}
