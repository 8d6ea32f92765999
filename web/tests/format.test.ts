import { describe, expect, it } from 'vitest'
import { clock, count, mm, percent, reportLine, THIN } from '@/composables/format'

describe('figures', () => {
  it('writes time as minutes and seconds', () => {
    expect(clock(65)).toBe('1:05')
    expect(clock(0.4)).toBe('0:00')
    expect(clock(null)).toBe('–')
  })
  it('keeps counts to three figures with a thin space', () => {
    expect(count(1_420_000)).toBe(`1.42${THIN}M`)
    expect(count(300_000)).toBe(`300${THIN}k`)
    expect(count(4_096)).toBe(`4${THIN}096`)
  })
  it('puts units behind a thin space', () => {
    expect(mm(0.0312, 3)).toBe(`0.031${THIN}mm`)
    expect(percent(0.027)).toBe(`2.7${THIN}%`)
  })
  it('finds what says most in a report', () => {
    expect(reportLine({ triangles_before: 600_000, triangles: 300_000 })).toBe(`600${THIN}k → 300${THIN}k`)
    expect(reportLine({ triangles_before: 600_000, triangles: 300_000, hausdorff_mm: 0.0421 })).toBe(
      `600${THIN}k → 300${THIN}k, off 0.042${THIN}mm`,
    )
    expect(reportLine({ holes_closed: 12, holes_left: 2, made_up_area_fraction: 0.1 })).toBe(
      'closed 12, left 2',
    )
    expect(reportLine({ points: 126_984, spacing_mm: 0.385 })).toBe(`127${THIN}k points, 0.39${THIN}mm apart`)
    expect(reportLine({ not_placed: ['tipped'], fits: [] })).toBe('not accepted')
    expect(reportLine({})).toBe('')
    expect(reportLine(null)).toBe('')
  })
})
