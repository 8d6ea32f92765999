import { describe, expect, it } from 'vitest'
import type { Bench, StepView } from '@/api/client'
import { verdicts } from '@/bench/stages/align/verdicts'

const passes = (...placed: boolean[]) =>
  placed.map((on, n) => ({ title: `pass ${n}`, placed: on })) as unknown as Bench['passes']
const step = (operation: string, report: object, undone = false) =>
  ({ operation, report, undone }) as unknown as StepView
const fit = (more: object) => ({
  moving: 'pass 1',
  fixed: 'pass 0',
  accepted: true,
  reason: '',
  overlap: 0.42,
  rms_mm: 0.0312,
  ...more,
})
const plain = (text: string) => text.replace(/\u2009/g, ' ')

describe('how passes lie', () => {
  it('is told by the newest step that says something of a pass', () => {
    const steps = [
      step('find_fit', { fits: [fit({ accepted: false, reason: 'only 9 % in common' })] }),
      step('find_fit', { fits: [fit({})] }),
      step('settle', {}),
    ]
    const [first, second] = verdicts(passes(true, true), steps)
    expect(first.words).toBe('Holds still; the others are laid onto it.')
    expect([second.words, plain(second.figures)]).toEqual(['Lies on “pass 0”.', 'common 42 % · 0.031 mm'])
  })
  it('says why a pass is not placed, also after its placing was undone', () => {
    const refused = step('find_fit', {
      fits: [fit({ accepted: false, reason: 'nothing on the two passes looks alike' })],
    })
    const snapped = step('snap', { pass: 'pass 1', overlap: 0.3, rms_mm: 0.02, against: '' }, true)
    const [, second] = verdicts(passes(true, false), [refused, snapped])
    expect(second).toMatchObject({
      placed: false,
      words: 'Nothing on the two passes looks alike.',
      figures: '',
    })
    expect(verdicts(passes(true, false), [])[1].words).toBe('Not placed yet.')
  })
  it('offers to ask the colours that were left out, and to leave them out where only they speak against it', () => {
    const differ = step('find_fit', { fits: [fit({ accepted: false, colours_differ: true })] })
    expect(verdicts(passes(true, false), [differ])[1].colour).toBe('leave out')
    const open = {
      ...step('find_fit', { fits: [fit({ accepted: false })] }),
      parameters: { colour: 'never' },
    }
    expect(verdicts(passes(true, false), [differ, open])[1].colour).toBe('ask')
    const other = step('find_fit', { fits: [fit({ accepted: false })] })
    expect(verdicts(passes(true, false), [other])[1].colour).toBeUndefined()
  })
  it('says of a pass that is off what is lost without it, until it is on again', () => {
    const off = [...passes(true, true)]
    off[1] = { ...off[1], off: true }
    const steps = [
      step('find_fit', { fits: [fit({})] }),
      step('switch_passes', { off: ['pass 1'], lost_cm2: 12.4 }),
    ]
    expect(verdicts(off, steps)[1]).toMatchObject({
      off: true,
      words: 'Off: nothing is worked out of it. Only it saw 12.4 cm².',
      figures: '',
    })
    expect(verdicts(passes(true, true), steps)[1]).toMatchObject({ off: false, words: 'Lies on “pass 0”.' })
  })
  it('tells of markers and of a hand, and what a hand overruled', () => {
    const byMarkers = step('by_markers', { fits: [fit({ markers: 9, overlap: undefined })] })
    expect(plain(verdicts(passes(true, true), [byMarkers])[1].figures)).toBe('9 markers · 0.031 mm')
    const hand = (against: string) =>
      step('match_points', { pass: 'pass 1', overlap: 0.3, rms_mm: 0.02, against })
    expect(verdicts(passes(true, true), [byMarkers, hand('')])[1].words).toBe('Placed by hand.')
    expect(verdicts(passes(true, true), [hand('it was looked through')])[1].words).toBe(
      'Placed by hand, although it was looked through.',
    )
    expect(verdicts(passes(true, true, true), [])[2].words).toBe('Placed.')
  })
})
