/** What tells that something has ended. */
export interface Telling {
  sound: boolean
  title: boolean
  notification: boolean
}
let ways: Telling = { sound: true, title: true, notification: true }
/** Say what is to tell from now on. */
export const tellBy = (now: Telling) => (ways = { ...now })

let audio: AudioContext | null = null
let waiting = 0

/** Two quiet notes, as a small bell far off. */
function chime() {
  try {
    audio ??= new AudioContext()
    const now = audio.currentTime
    for (const [at, pitch] of [
      [0, 660],
      [0.16, 880],
    ] as const) {
      const tone = audio.createOscillator()
      const gain = audio.createGain()
      tone.frequency.value = pitch
      gain.gain.setValueAtTime(0, now + at)
      gain.gain.linearRampToValueAtTime(0.05, now + at + 0.02)
      gain.gain.exponentialRampToValueAtTime(0.0004, now + at + 0.7)
      tone.connect(gain).connect(audio.destination)
      tone.start(now + at)
      tone.stop(now + at + 0.8)
    }
  } catch {
    // A browser without sound still shows the title and the notification.
  }
}

/** Tell somebody who looks elsewhere that a result has arrived. */
export function announce(sentence: string) {
  if (ways.sound) chime()
  if (!document.hidden) return
  waiting += 1
  if (ways.title) document.title = `(${waiting}) Lucid Relic`
  if (ways.notification && window.Notification?.permission === 'granted')
    new Notification('Lucid Relic', { body: sentence })
}

document.addEventListener('visibilitychange', () => {
  if (!document.hidden) {
    waiting = 0
    document.title = 'Lucid Relic'
  }
})
