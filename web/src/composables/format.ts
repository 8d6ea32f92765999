/** A thin space, before units. */
export const THIN = '\u2009'

/** `1:05` for 65 seconds. */
export function clock(seconds: number | null | undefined): string {
  if (seconds == null || !Number.isFinite(seconds)) return '–'
  const whole = Math.max(0, Math.round(seconds))
  return `${Math.floor(whole / 60)}:${String(whole % 60).padStart(2, '0')}`
}

/** Large counts in three figures: `300 k`, `1.42 M`. */
export function count(value: number): string {
  if (value >= 1e6) return `${(value / 1e6).toFixed(2)}${THIN}M`
  if (value >= 1e4) return `${Math.round(value / 1e3)}${THIN}k`
  return value.toLocaleString('en-GB').replace(/,/g, THIN)
}

/** A share 0-1 in percent. */
export function percent(share: number, digits = 1): string {
  return `${(share * 100).toFixed(digits)}${THIN}%`
}

/** A length with its unit. */
export function mm(value: number | null | undefined, digits = 1): string {
  return value == null ? '–' : `${value.toFixed(digits)}${THIN}mm`
}

/** The figures of a step's report that say most, as short text. */
export function reportLine(report: unknown): string {
  // eslint-disable-next-line @typescript-eslint/no-explicit-any -- every operation reports figures of its own
  const r = (report ?? {}) as Record<string, any>
  const passes: Record<string, number>[] | undefined = r.passes
  if (r.not_placed && r.not_placed.length) return 'not accepted'
  if (r.fits) return r.fits.map((f: { overlap: number }) => `common ${percent(f.overlap, 0)}`).join(', ')
  if (passes?.[0]?.rms_mm != null) return passes.map((p) => mm(p.rms_mm, 3)).join(' · ')
  if (passes?.[0]?.points_after != null)
    return `${count(sum(passes, 'points_before'))} → ${count(sum(passes, 'points_after'))}`
  if (r.points_after != null) return `${count(r.points_before)} → ${count(r.points_after)}`
  if (r.rms_mm != null) return `${mm(r.rms_before_mm, 3)} → ${mm(r.rms_mm, 3)}`
  if (r.triangles_before != null)
    return `${count(r.triangles_before)} → ${count(r.triangles)}${r.hausdorff_mm ? `, off ${mm(r.hausdorff_mm, 3)}` : ''}`
  if (r.holes_left != null) return `closed ${r.holes_closed}, left ${r.holes_left}`
  if (r.points != null) return `${count(r.points)} points, ${mm(r.spacing_mm, 2)} apart`
  if (r.made_up_area_fraction != null) return `made up ${percent(r.made_up_area_fraction)}`
  if (r.voxel_mm != null) return `${count(r.triangles)} at ${mm(r.voxel_mm, 2)}`
  if (r.seen_share != null) return `seen ${percent(r.seen_share, 0)}`
  if (r.size_mm) return r.size_mm.map((v: number) => v.toFixed(1)).join(' × ')
  if (r.frames != null) return `${r.frames} frames`
  return ''
}

function sum(rows: Record<string, number>[], key: string): number {
  return rows.reduce((total, row) => total + (row[key] ?? 0), 0)
}
