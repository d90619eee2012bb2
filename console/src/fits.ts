/** Whether something fits into this machine's memory, in words and colours. */
import type { Fit, Offer } from './api/client'

const WORDS: Record<Fit['fits'], { text: string; colour: string }> = {
  now: { text: 'fits', colour: 'success' },
  after_unloading: { text: 'fits after unloading', colour: 'info' },
  other_settings: { text: 'fits with other settings', colour: 'warning' },
  never: { text: 'never fits', colour: 'error' },
}

export function fits(fit: Fit): { text: string; colour: string } {
  const { text, colour } = WORDS[fit.fits]
  return { text: fit.by_size_alone ? `${text}, by its size` : text, colour }
}

/** Offers by the model they are variants of, in their order. */
export function byModel(offers: Offer[]): { name: string; variants: Offer[] }[] {
  const models = new Map<string, Offer[]>()
  for (const offer of offers) {
    const name = `${offer.source}:${offer.model}`
    models.set(name, [...(models.get(name) ?? []), offer])
  }
  return [...models].map(([name, variants]) => ({ name, variants }))
}
