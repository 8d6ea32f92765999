const SVG = 'http://www.w3.org/2000/svg'

/** A line drawn across the view, on the screen and not in the object: while a hand draws it. */
export class ScreenLines {
  private readonly svg = document.createElementNS(SVG, 'svg')
  private readonly line = document.createElementNS(SVG, 'polyline')

  constructor(host: HTMLElement) {
    this.svg.setAttribute('class', 'screen-lines')
    this.svg.setAttribute('aria-hidden', 'true')
    this.svg.append(this.line)
    host.append(this.svg)
  }
  /** Draw through these pixels, or nothing. */
  set(points: [number, number][]) {
    this.line.setAttribute('points', points.map(([x, y]) => `${x},${y}`).join(' '))
  }
  dispose() {
    this.svg.remove()
  }
}
