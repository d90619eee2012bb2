/** Whether something fits into this machine's memory, in words and colours. */
import type { Fit, Offer } from './api/client'
import { t } from './i18n'

const COLOURS: Record<Fit['fits'], string> = {
  now: 'success',
  after_unloading: 'info',
  other_settings: 'warning',
  never: 'error',
}

export function fits(fit: Fit): { text: string; colour: string } {
  const text = t(`find.${fit.fits}`)
  return { text: fit.by_size_alone ? t('find.estimated', { fit: text }) : text, colour: COLOURS[fit.fits] }
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
