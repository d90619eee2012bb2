import { createVuetify } from 'vuetify'
import { aliases, mdi } from 'vuetify/iconsets/mdi-svg'

import { storedTheme } from './theme'

/** Less important texts, as opacity: the palest that is legible (contrast 4.5 to 1) on all surfaces. */
const LEGIBLE = 0.76

/** Deep water, paper and amber; the same hues by day and by night. */
export const vuetify = createVuetify({
  icons: { defaultSet: 'mdi', aliases, sets: { mdi } },
  defaults: {
    VCard: { rounded: 'lg', variant: 'flat', border: true },
    VBtn: { rounded: 'lg', class: 'text-none', elevation: 0 },
    VSlider: { color: 'primary' },
    VTextField: { density: 'compact', variant: 'outlined', hideDetails: 'auto' },
    VNumberInput: { controlVariant: 'hidden', density: 'compact', variant: 'outlined', hideDetails: 'auto' },
    // Only while they are shown: a hidden one is no description.
    VTooltip: { eager: false },
    VSelect: { density: 'compact', variant: 'outlined', hideDetails: 'auto' },
  },
  theme: {
    defaultTheme: storedTheme() ?? 'system',
    themes: {
      light: {
        variables: { 'medium-emphasis-opacity': LEGIBLE },
        colors: {
          background: '#f4efe4',
          surface: '#fffdf8',
          primary: '#12434a',
          secondary: '#b5701a',
          success: '#3c7a4c',
          warning: '#b5701a',
          error: '#a83a32',
          info: '#2d6f86',
        },
      },
      dark: {
        variables: { 'medium-emphasis-opacity': LEGIBLE },
        colors: {
          background: '#0d1c1f',
          surface: '#14282c',
          primary: '#7cc5c9',
          secondary: '#e8a33d',
          success: '#7fc08d',
          warning: '#e8a33d',
          error: '#e58a80',
          info: '#7fb9d0',
        },
      },
    },
  },
})
