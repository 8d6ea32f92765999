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

/** Room on a disk: `812 MB`, `1.4 GB`. */
export function bytes(value: number): string {
  if (value >= 1e9) return `${(value / 1e9).toFixed(1)}${THIN}GB`
  return `${Math.max(1, Math.round(value / 1e6))}${THIN}MB`
}
