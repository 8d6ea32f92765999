import { chime } from '@/composables/chime'
import type { HandFigures } from '@/bench/stages/capture/hand/hand'

/** What a new frame sounds like beside the one before it; nothing when nothing changed. */
export function soundOf(now: HandFigures, before: HandFigures | undefined): 'rise' | 'fall' | null {
  if (!before) return null
  if (now.state === 'lost' && before.state !== 'lost') return 'fall'
  if (now.state !== 'lost' && before.state === 'lost') return 'rise'
  if (now.enough_reached && !before.enough_reached) return 'rise'
  return null
}
export function sound(now: HandFigures, before: HandFigures | undefined) {
  const which = soundOf(now, before)
  if (which) chime(which === 'rise')
}

const FROM_SLOT = 0.06
/** How a frame asks for attention by ticks: how far from the slot or from the pace it is, 0 to 1; 0 is silent. */
export function urgency({ distance_mm, slot_mm: [near, far], pace }: HandFigures): number {
  const margin = FROM_SLOT * (far - near)
  const off =
    distance_mm == null
      ? 0
      : Math.max((near + margin - distance_mm) / margin, (distance_mm - far + margin) / margin, 0)
  return Math.min(Math.max(off, (pace - 0.6) / 0.4, 0), 1)
}
/** A tick so quiet that it can go on; higher when it is more urgent. */
export function tick(sounding: AudioContext, urgent: number) {
  const from = sounding.currentTime
  const tone = sounding.createOscillator()
  const volume = sounding.createGain()
  tone.frequency.value = 260 + 340 * urgent
  volume.gain.setValueAtTime(0.05, from)
  volume.gain.exponentialRampToValueAtTime(0.001, from + 0.06)
  tone.connect(volume).connect(sounding.destination)
  tone.start(from)
  tone.stop(from + 0.07)
}
