import type { StageName } from '@/api/client'
import { align } from '@/bench/stages/align'
import { capture } from '@/bench/stages/capture'
import { clean } from '@/bench/stages/clean'
import { colour } from '@/bench/stages/colour'
import type { StageDefinition } from '@/bench/stages/definition'
import { deliver } from '@/bench/stages/deliver'
import { fuse } from '@/bench/stages/fuse'
import { mend } from '@/bench/stages/mend'
import { set } from '@/bench/stages/set'

/** The stages in the order of the work: one line for each. */
export const STAGES: StageDefinition[] = [capture, clean, align, fuse, mend, colour, set, deliver]

export const stageOf = (name: StageName) => STAGES.find((s) => s.name === name)!
