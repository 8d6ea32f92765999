import type { Bench, StepView } from '@/api/client'
import { mm, percent } from '@/composables/format'

/** What is known of how a pass lies to the others. */
export interface Verdict {
  title: string
  placed: boolean
  /** Switched off: nothing is worked out of it. */
  off: boolean
  /** How it was placed, or why it was not, in words. */
  words: string
  /** Common area and residual, where they are known. */
  figures: string
  /** What to try with its colours where it was refused: to ask them, or to go by the shape alone. */
  colour?: 'ask' | 'leave out'
}
type Said = Pick<Verdict, 'words' | 'figures' | 'colour'>
interface Fit {
  moving: string
  fixed: string
  accepted: boolean
  reason: string
  overlap?: number
  markers?: number
  rms_mm: number
  colours_differ?: boolean
}
interface HandReport {
  pass: string
  overlap: number
  rms_mm: number
  against: string
}

/** A card for every pass, by the newest step that says something of it. */
export function verdicts(passes: Bench['passes'], steps: StepView[]): Verdict[] {
  const switched = [...steps].reverse().find((s) => s.operation === 'switch_passes' && !s.undone)
  const lost = (switched?.report as { lost_cm2?: number } | undefined)?.lost_cm2
  const offs = passes.filter((p) => p.off).length
  return passes.map(({ title, placed, off = false }, n) => {
    if (off) {
      const cost =
        lost === undefined ? '' : ` ${offs === 1 ? 'Only it saw' : 'Only those off saw'} ${lost} cm².`
      return { title, placed, off, words: `Off: nothing is worked out of it.${cost}`, figures: '' }
    }
    for (const step of [...steps].reverse()) {
      if (step.undone) continue
      const said = saidBy(step, title, placed)
      if (said) return { title, placed, off, ...said }
    }
    const words = placed
      ? n === 0
        ? 'Holds still; the others are laid onto it.'
        : 'Placed.'
      : 'Not placed yet.'
    return { title, placed, off, words, figures: '' }
  })
}

function saidBy(step: StepView, title: string, placed: boolean): Said | null {
  if (step.operation === 'find_fit' || step.operation === 'by_markers') {
    const fits = ((step.report as { fits?: Fit[] }).fits ?? []).filter((f) => f.moving === title)
    const fit = fits.find((f) => f.accepted === placed) ?? null
    if (!fit) return null
    const figures = fit.markers !== undefined ? `${fit.markers} markers` : common(fit.overlap ?? 0)
    const words = placed ? `Lies on “${fit.fixed}”.` : `${capital(fit.reason)}.`
    if (fit.accepted) return { words, figures: `${figures} · ${mm(fit.rms_mm, 3)}` }
    const shapeOnly = (step.parameters as { colour?: string } | undefined)?.colour === 'never'
    return { words, figures: '', colour: shapeOnly ? 'ask' : fit.colours_differ ? 'leave out' : undefined }
  }
  if (step.operation === 'match_points' || step.operation === 'snap') {
    const report = step.report as HandReport
    if (report.pass !== title || !placed) return null
    const words = report.against ? `Placed by hand, although ${report.against}.` : 'Placed by hand.'
    return { words, figures: `${common(report.overlap)} · ${mm(report.rms_mm, 3)}` }
  }
  return null
}
const common = (share: number) => `common ${percent(share, 0)}`
const capital = (text: string) => text.charAt(0).toUpperCase() + text.slice(1)
