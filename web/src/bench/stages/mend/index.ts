import type { StageDefinition } from '@/bench/stages/definition'

export const mend: StageDefinition = { name: 'mend', title: 'Mend', question: 'Is the mesh fit for its use?' }
