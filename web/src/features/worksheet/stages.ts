import type { StageName } from '@/api/client'

export const STAGES: StageName[] = ['capture', 'clean', 'align', 'fuse', 'mend', 'colour', 'set', 'deliver']

/** The question of each stage, and what its worksheet says when it has no operation to offer. */
export const QUESTIONS: Record<StageName, string> = {
  capture: 'Is everything seen?',
  clean: 'What does not belong to the object?',
  align: 'Do the passes lie where they belong?',
  fuse: 'What is the surface?',
  mend: 'Is the mesh fit for its use?',
  colour: 'Is the colour laid and even?',
  set: 'Does it stand upright?',
  deliver: 'Who takes it, and in which form?',
}

/** The key of each operation on the bench. */
export const OPERATION_KEYS: Record<string, string> = {
  place_frames: 'P',
  stand_cut: 'S',
  trim_fuzz: 'Z',
  find_fit: 'F',
  settle: 'T',
  fuse: 'U',
  close: 'C',
  gather_points: 'B',
  largest_piece: 'L',
  simplify: 'Y',
  remesh: 'E',
  lay_colour: 'O',
  stand_up: 'H',
}
