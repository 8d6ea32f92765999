// What one may choose from for a pass, in words.

/** In place of no sweep: somebody steers the head. */
export const STEERED = 'steered'
export const SWEEPS = [
  { label: 'Steered by you', value: STEERED },
  { label: 'Recorded: slow', value: 'slow' },
  { label: 'Recorded: too fast', value: 'fast' },
  { label: 'Recorded: with a loss', value: 'loss' },
  { label: 'Recorded: with a jump', value: 'jump' },
]
/** What must be seen enough for. */
export const USES = [
  { label: 'A print', value: 'print' },
  { label: 'The screen', value: 'screen' },
  { label: 'CAD', value: 'cad' },
]
/** What places the frames of a pass: a head in the hand knows no axis. */
export const HOLDS = [
  { label: 'The table’s axis', value: 'axis' },
  { label: 'Its shape alone', value: 'shape' },
  { label: 'Markers on the tray', value: 'markers' },
]
