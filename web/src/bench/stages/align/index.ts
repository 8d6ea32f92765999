import PassCards from '@/bench/stages/align/PassCards.vue'
import MatchForm from '@/bench/stages/align/MatchForm.vue'
import SnapForm from '@/bench/stages/align/SnapForm.vue'
import { DRAG, TIE } from '@/bench/stages/align/tools'
import { opens, type StageDefinition } from '@/bench/stages/definition'

export const align: StageDefinition = {
  name: 'align',
  title: 'Align',
  question: 'Do the passes lie where they belong?',
  panels: [PassCards],
  cards: { match_points: MatchForm, snap: SnapForm },
  within: ['switch_passes'],
  runs: { match_points: opens('align', 'match_points'), snap: opens('align', 'snap') },
  tools: [TIE, DRAG],
}
