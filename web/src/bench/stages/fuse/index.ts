import type { StageDefinition } from '@/bench/stages/definition'

export const fuse: StageDefinition = { name: 'fuse', title: 'Fuse', question: 'What is the surface?' }
