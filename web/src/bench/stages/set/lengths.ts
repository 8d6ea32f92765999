import type { Bench } from '@/api/client'

export type Length = Bench['lengths'][number]
const ROUND = ['circle', 'sphere', 'cylinder']

/** What a measure says, with its unit. */
export const valueOf = ({ kind, value }: Length) =>
  kind === 'angle' ? `${value.toFixed(1)}°` : `${ROUND.includes(kind) ? '⌀ ' : ''}${value.toFixed(2)}\u2009mm`
