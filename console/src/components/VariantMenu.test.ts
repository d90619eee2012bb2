// @vitest-environment happy-dom
import { flushPromises } from '@vue/test-utils'
import { afterEach, expect, test, vi } from 'vitest'

import { input, mounted, named, served, text, typed } from '../testing/mounted'
import VariantMenu from './VariantMenu.vue'

afterEach(() => {
  document.body.innerHTML = ''
  vi.unstubAllGlobals()
})

const variant = { name: 'larkfen-desk/q8_0', stored: true }

async function chosen(entry: string) {
  named('button', 'More actions for larkfen-desk/q8_0').click()
  await flushPromises()
  named('.v-list-item', entry).click()
  await flushPromises()
}

test('a removal tells first what it frees, and removes at the second word only', async () => {
  const sent = served(() => ({ stored: true, frees: 589824 }))
  const { emitted } = mounted(VariantMenu, { variant })
  await chosen('Remove')
  expect(text()).toContain('576 KiB')
  expect(sent.map(({ method, path }) => `${method} ${path}`)).toEqual(['DELETE /manage/v1/depot/larkfen-desk/q8_0?dry_run=true'])
  named('[aria-label=Remove] button', 'Remove').click()
  await flushPromises()
  expect(sent.at(-1)?.path).toBe('/manage/v1/depot/larkfen-desk/q8_0?dry_run=false')
  expect(emitted('changed')).toHaveLength(1)
})

test('a name that is taken stays in its field, with the reason', async () => {
  served(() => ({ status: 409, detail: '`larkfen-desk/f16` is taken' }))
  const { app, emitted } = mounted(VariantMenu, { variant })
  await chosen('Rename')
  const field = input('[aria-label=Rename] input')
  expect(field.value).toBe('larkfen-desk/q8_0')
  typed(field, 'larkfen-desk/f16')
  named('[aria-label=Rename] button', 'Rename').click()
  await flushPromises()
  expect(text()).toContain('`larkfen-desk/f16` is taken')
  expect(field.value).toBe('larkfen-desk/f16')
  expect(emitted('changed')).toHaveLength(0)
  app.unmount()
})

test('the refusal of a verification is shown without a dialog', async () => {
  served(() => ({ status: 409, detail: 'another verification is running' }))
  mounted(VariantMenu, { variant })
  await chosen('Verify')
  expect(named('[role=alert]', 'another verification is running')).toBeTruthy()
})

test('what is only registered cannot be verified', async () => {
  mounted(VariantMenu, { variant: { ...variant, stored: false } })
  named('button', 'More actions for larkfen-desk/q8_0').click()
  await flushPromises()
  expect(document.querySelectorAll('.v-list-item')).toHaveLength(2)
})
