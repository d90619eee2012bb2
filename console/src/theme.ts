/** The reader's choice between the light and the dark theme, stored in the browser. */
const KEY = 'deft-theme'

export type ThemeName = 'light' | 'dark'

/** The stored choice; none if there is none, or if the browser stores nothing. */
export function storedTheme(): ThemeName | undefined {
  try {
    const stored = localStorage.getItem(KEY)
    return stored === 'light' || stored === 'dark' ? stored : undefined
  } catch {
    return undefined
  }
}

export function storeTheme(name: ThemeName) {
  try {
    localStorage.setItem(KEY, name)
  } catch {
    // The choice then lasts until the page is closed.
  }
}
