/** A short sound: rising when something came to its end, falling when it waits for somebody. */
export function chime(rising: boolean) {
  if (!('AudioContext' in window)) return
  const sound = new AudioContext()
  const notes = rising ? [523, 784] : [440, 330]
  notes.forEach((pitch, n) => {
    const from = sound.currentTime + 0.16 * n
    const tone = sound.createOscillator()
    const volume = sound.createGain()
    tone.frequency.value = pitch
    volume.gain.setValueAtTime(0.12, from)
    volume.gain.exponentialRampToValueAtTime(0.001, from + 0.3)
    tone.connect(volume).connect(sound.destination)
    tone.start(from)
    tone.stop(from + 0.32)
  })
  window.setTimeout(() => void sound.close(), 1000)
}
