/** A colour of the page by its name in tokens.css, as it is in the theme that is on. */
export const token = (name: string) =>
  getComputedStyle(document.documentElement).getPropertyValue(`--${name}`).trim()

/** The hue of a pass by its title, for a style sheet. */
export const swatchOf = (passes: { title: string }[], title: string) =>
  `var(--pass-${
    (Math.max(
      passes.findIndex((p) => p.title === title),
      0,
    ) %
      6) +
    1
  })`

/** The hue of a pass, counted from 0. */
export const hueOf = (n: number) => token(`pass-${(n % 6) + 1}`)
