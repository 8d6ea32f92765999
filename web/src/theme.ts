import { definePreset } from '@primeuix/themes'
import Aura from '@primeuix/themes/aura'

const surface = {
  0: 'var(--sheet)',
  50: 'var(--paper)',
  100: 'var(--sunk)',
  200: 'var(--rule)',
  300: 'var(--rule)',
  400: 'var(--ink-3)',
  500: 'var(--ink-2)',
  600: 'var(--ink-2)',
  700: 'var(--ink)',
  800: 'var(--ink)',
  900: 'var(--ink)',
  950: 'var(--ink)',
}
const verdigris = Object.fromEntries(
  [50, 100, 200, 300, 400, 500, 600, 700, 800, 900, 950].map((k) => [
    k,
    k < 300 ? 'var(--verdigris-wash)' : 'var(--verdigris)',
  ]),
)

/** PrimeVue in our tokens: the tokens themselves change with the theme, so one scheme serves both. */
export const preset = definePreset(Aura, {
  semantic: {
    primary: verdigris,
    borderRadius: { sm: '4px', md: 'var(--radius)', lg: '8px', xl: '10px' },
    formField: {
      paddingX: '0.6rem',
      paddingY: '0.35rem',
      sm: { fontSize: '13px', paddingX: '0.5rem', paddingY: '0.28rem' },
    },
    colorScheme: {
      light: {
        surface,
        primary: {
          color: 'var(--verdigris)',
          contrastColor: 'var(--on-verdigris)',
          hoverColor: 'var(--verdigris)',
          activeColor: 'var(--verdigris)',
        },
        highlight: {
          background: 'var(--verdigris-wash)',
          focusBackground: 'var(--verdigris-wash)',
          color: 'var(--ink)',
          focusColor: 'var(--ink)',
        },
        formField: {
          background: 'var(--sheet)',
          borderColor: 'var(--rule)',
          hoverBorderColor: 'var(--ink-3)',
          color: 'var(--ink)',
          placeholderColor: 'var(--ink-3)',
          shadow: 'none',
        },
        text: { color: 'var(--ink)', mutedColor: 'var(--ink-2)', hoverColor: 'var(--ink)' },
        content: { background: 'var(--sheet)', borderColor: 'var(--rule)', color: 'var(--ink)' },
        overlay: {
          modal: { background: 'var(--sheet)', borderColor: 'var(--rule)', color: 'var(--ink)' },
          select: { background: 'var(--sheet)', borderColor: 'var(--rule)', color: 'var(--ink)' },
        },
        mask: { background: 'rgb(29 43 58 / 30%)' },
      },
    },
  },
})
