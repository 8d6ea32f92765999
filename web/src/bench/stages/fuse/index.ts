import SurfaceForm from '@/bench/marks/SurfaceForm.vue'
import { surfaceTools } from '@/bench/marks/tools'
import { opens, type StageDefinition } from '@/bench/stages/definition'
import FuseForm from '@/bench/stages/fuse/FuseForm.vue'
import TakesForm from '@/bench/stages/fuse/TakesForm.vue'

export const fuse: StageDefinition = {
  name: 'fuse',
  title: 'Fuse',
  question: 'What is the surface?',
  cards: { fuse: FuseForm, local_detail: SurfaceForm, takes: TakesForm },
  runs: {
    local_detail: opens('fuse', 'local_detail'),
    takes: opens('fuse', 'takes'),
  },
  tools: surfaceTools('fuse'),
}
