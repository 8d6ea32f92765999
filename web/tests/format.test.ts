import { describe, expect, it } from 'vitest'
import { clock, count, mm, percent, THIN } from '@/composables/format'

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
})
