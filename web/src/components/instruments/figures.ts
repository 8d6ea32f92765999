import type { CheckView } from '@/api/client'
import { mm, THIN } from '@/composables/format'

/** One place of a chart: when, how much, how sure, and whether the check was good. */
export interface Measured {
  at: number
  value: number
  plus: number
  ok: boolean
}
type Figures = Record<string, number> & Record<string, number[]>

/** What a kind of check is charted by. */
export const CHARTED: Record<string, { title: string; unit: string; of: (f: Figures) => [number, number] }> =
  {
    board: { title: 'Corners off', unit: 'px', of: (f) => [f.rms_px, 0] },
    axis: { title: 'Axis known to', unit: 'mm', of: (f) => [f.sd_mm, 0] },
    card: { title: 'Colours off after the card', unit: 'ΔE', of: (f) => [f.after, 0] },
    sheet: { title: 'White was off', unit: 'ΔE', of: (f) => [f.before, 0] },
    piece: {
      title: 'Sphere spacing error',
      unit: 'mm',
      of: (f) => [f.spacing_error_mm, f.spacing_uncertainty_mm],
    },
  }

/** The done checks of a kind, oldest first, as a chart takes them. */
export function series(checks: CheckView[], kind: string): Measured[] {
  return checks
    .filter((c) => c.kind === kind && c.state === 'done')
    .map((c) => {
      const [value, plus] = CHARTED[kind].of(c.figures as Figures)
      return { at: Date.parse(c.created), value, plus, ok: c.ok }
    })
    .sort((a, b) => a.at - b.at)
}

const light = (f: Figures): [string, string][] => [
  ['Grey would be right at', `${f.exposure.toFixed(2)} × the exposure`],
  ['Balance r, g, b', f.balance.map((b: number) => b.toFixed(3)).join(', ')],
]

/** The figures of a check that say most, as label and value. */
export function told(check: CheckView): [string, string][] {
  const f = check.figures as Figures
  if (check.state !== 'done') return []
  const rows: Record<string, () => [string, string][]> = {
    board: () => [
      ['Focal length', `${f.fx.toFixed(1)} × ${f.fy.toFixed(1)}${THIN}px`],
      ['Middle', `${f.cx.toFixed(1)}, ${f.cy.toFixed(1)}${THIN}px`],
      ['Off the sheet', `${(100 * f.off_sheet).toFixed(2)}${THIN}%`],
      ['Reprojection', `${f.rms_px.toFixed(3)}${THIN}px`],
      ['Picture covered', `${(100 * f.field).toFixed(0)}${THIN}%`],
    ],
    axis: () => [
      ['Place known to', mm(f.sd_mm, 3)],
      ['Direction known to', `${f.sd_deg.toFixed(3)}°`],
      ['Reprojection', `${f.rms_px.toFixed(3)}${THIN}px`],
    ],
    card: () => [
      ['ΔE2000 before', f.before.toFixed(1)],
      ['ΔE2000 after', f.after.toFixed(2)],
      ['Worst patch', f.worst.toFixed(1)],
      ...light(f),
    ],
    sheet: () => [['ΔE2000 before', f.before.toFixed(1)], ['ΔE2000 after', f.after.toFixed(2)], ...light(f)],
    piece: () => [
      ['Probing error of form', f.form_mm.map((v: number) => mm(v, 3)).join(', ')],
      ['Probing error of size', f.size_mm.map((v: number) => mm(v, 3)).join(', ')],
      ['Sphere spacing error', `${mm(f.spacing_error_mm, 3)} ± ${f.spacing_uncertainty_mm.toFixed(3)}`],
      ['Flatness', mm(f.flatness_mm, 3)],
      ['Scale', `${(100 * f.scale).toFixed(3)}${THIN}%`],
    ],
  }
  return rows[check.kind]()
}
