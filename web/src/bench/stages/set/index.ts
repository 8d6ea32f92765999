import type { StageDefinition } from '@/bench/stages/definition'

export const set: StageDefinition = { name: 'set', title: 'Set', question: 'Does it stand upright?' }
