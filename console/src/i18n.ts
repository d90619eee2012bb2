/** All texts of the console, from the catalogue in `texts`. */
import { createI18n } from 'vue-i18n'

import en from './texts/en.json'

export const i18n = createI18n({ legacy: false, locale: 'en', fallbackLocale: 'en', messages: { en } })

/** A text of the catalogue, for code outside of templates. */
export const t = i18n.global.t
