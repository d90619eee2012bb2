/** Components as they stand in the console: with its library, texts and routes. */
import { mount } from '@vue/test-utils'
import { vi } from 'vitest'
import { type Component, h } from 'vue'
import { createMemoryHistory, createRouter } from 'vue-router'
import { VApp } from 'vuetify/components'

import { i18n } from '../i18n'
import { vuetify } from '../vuetify'

// Vuetify watches sizes, which happy-dom lays nothing out for.
Object.defineProperty(globalThis, 'visualViewport', { value: new EventTarget() })

/** Mounts a component into the document; what it emits is in `emitted`. */
export function mounted(component: Component, props: Record<string, unknown> = {}) {
  const router = createRouter({ history: createMemoryHistory(), routes: [{ path: '/:all(.*)*', component: { render: () => null } }] })
  const app = mount(
    { render: () => h(VApp, () => h(component, props)) },
    { attachTo: document.body, global: { plugins: [vuetify, i18n, router] } },
  )
  const found = app.findComponent(component)
  return { app, found, emitted: (event: string) => found.emitted(event) ?? [] }
}

/** The first element of the document, dialogs included, whose text is exactly this. */
export function named(selector: string, text: string): HTMLElement {
  const all = [...document.body.querySelectorAll<HTMLElement>(selector)]
  const found = all.find((element) => element.textContent?.trim() === text || element.getAttribute('aria-label') === text)
  if (!found) throw new Error(`no ${selector} "${text}" in: ${document.body.textContent}`)
  return found
}

/** Everything that can be read, dialogs included. */
export function text(): string {
  return (document.body.textContent ?? '').replace(/\s+/g, ' ')
}

/** A request that a component sent. */
export interface Sent {
  method: string
  path: string
  body: unknown
}

/** Stands in for the service: `answer` gives the body of a response, or a problem with its status. */
export function served(answer: (sent: Sent) => unknown) {
  const sent: Sent[] = []
  vi.stubGlobal('fetch', async (path: string, init: RequestInit = {}) => {
    const request = { method: init.method ?? 'GET', path, body: init.body ? JSON.parse(String(init.body)) : null }
    sent.push(request)
    const body = answer(request)
    const status = (body as { status?: number } | null)?.status ?? 200
    return new Response(JSON.stringify(body ?? null), { status })
  })
  return sent
}

/** The input that a selector finds. */
export function input(selector = 'input'): HTMLInputElement {
  const found = document.querySelector<HTMLInputElement>(selector)
  if (!found) throw new Error(`no ${selector} in: ${document.body.textContent}`)
  return found
}

/** Types into an input. */
export function typed(field: HTMLInputElement, words: string) {
  field.value = words
  field.dispatchEvent(new Event('input'))
}
