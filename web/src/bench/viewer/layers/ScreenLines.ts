const SVG = 'http://www.w3.org/2000/svg'
const KNOT_PX = 9

/** A thread between two spots, in pixels of the view. */
export interface ScreenThread {
  ends: [number, number][]
  letter: string
  /** Whether it does not agree with the others. */
  off: boolean
  /** Where its loose end is likely to belong. */
  offer?: [number, number]
}

/** A measure: places that a line runs through, and what it says at its middle; without words a spot by itself. */
export interface ScreenMeasure {
  ends: [number, number][]
  words: string
}

function made(name: string, facts: Record<string, string | number>, text = ''): SVGElement {
  const out = document.createElementNS(SVG, name)
  for (const [fact, value] of Object.entries(facts)) out.setAttribute(fact, String(value))
  out.textContent = text
  return out
}

/** What a hand draws across the view, on the screen and not in the object: a line, the tip it holds, a cursor moved by keys. */
export class ScreenLines {
  private readonly svg = document.createElementNS(SVG, 'svg')
  private readonly line = document.createElementNS(SVG, 'polyline')
  private readonly tip = document.createElementNS(SVG, 'circle')
  private readonly web = document.createElementNS(SVG, 'g')
  private readonly rule = document.createElementNS(SVG, 'g')
  private knots: ScreenThread[] = []
  private readonly cross = document.createElementNS(SVG, 'path')

  constructor(host: HTMLElement) {
    this.svg.setAttribute('class', 'screen-lines')
    this.svg.setAttribute('aria-hidden', 'true')
    this.svg.append(this.rule, this.web, this.line, this.tip, this.cross)
    host.append(this.svg)
  }
  /** Draw through these pixels, or nothing. */
  set(points: [number, number][]) {
    this.line.setAttribute('points', points.map(([x, y]) => `${x},${y}`).join(' '))
  }
  /** Draw a round tip at a pixel, or none. */
  ring(at: [number, number] | null, radius: number) {
    this.tip.setAttribute('r', at ? String(radius) : '0')
    this.tip.setAttribute('cx', String(at?.[0] ?? 0))
    this.tip.setAttribute('cy', String(at?.[1] ?? 0))
  }
  /** Draw the cursor that keys move, or none. */
  cursor(at: [number, number] | null) {
    this.cross.setAttribute('d', at ? `M${at[0] - 11} ${at[1]}h22M${at[0]} ${at[1] - 11}v22` : '')
  }
  /** The thread, and which of its drawn ends, that lies under a pixel. */
  knotAt(x: number, y: number): { thread: number; end: number } | null {
    for (const [thread, { ends }] of this.knots.entries()) {
      const end = ends.findIndex(([u, v]) => Math.hypot(u - x, v - y) <= KNOT_PX)
      if (end >= 0) return { thread, end }
    }
    return null
  }
  /** Draw threads with their letters: both ends where both are tied, else a loose end and where it may belong. */
  threads(all: ScreenThread[]) {
    this.knots = all
    this.web.replaceChildren(
      ...all.flatMap(({ ends, letter, off, offer }) => {
        const kind = off ? 'thread off' : 'thread'
        const line = made('polyline', { class: kind, points: ends.map((e) => e.join(',')).join(' ') })
        const knots = ends.flatMap(([x, y]) => [
          made('circle', { class: kind, cx: x, cy: y, r: KNOT_PX }),
          made('text', { class: kind, x, y: y + 4 }, letter),
        ])
        const likely = offer
          ? [made('circle', { class: 'offer', cx: offer[0], cy: offer[1], r: KNOT_PX + 3 })]
          : []
        return [line, ...likely, ...knots]
      }),
    )
  }
  /** Draw measures with their figures. */
  measures(all: ScreenMeasure[]) {
    this.rule.replaceChildren(
      ...all.flatMap(({ ends, words }) => {
        const [first, last] = [ends[0], ends[ends.length - 1]]
        // A place by itself stays in sight under its letter.
        const above = ends.length > 1 ? 0 : 18
        const [x, y] = [(first[0] + last[0]) / 2, (first[1] + last[1]) / 2 - above]
        const wide = 7 * words.length + 12
        return [
          made('polyline', { class: 'measure', points: ends.map((e) => e.join(',')).join(' ') }),
          ...ends.map(([cx, cy]) => made('circle', { class: 'measure', cx, cy, r: 2.5 })),
          made('rect', { class: 'measure', x: x - wide / 2, y: y - 10, width: wide, height: 20, rx: 3 }),
          made('text', { class: 'measure', x, y: y + 4 }, words),
        ]
      }),
    )
  }
  dispose() {
    this.svg.remove()
  }
}
