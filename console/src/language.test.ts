import { expect, it } from 'vitest'
import { t } from './language'

it('puts values where they have their names, and chooses plurals', () => {
  expect(t('Change {name}', { name: 'Tern Ferries' })).toBe('Change Tern Ferries')
  expect(t('{n} customer | {n} customers', { n: 1 })).toBe('1 customer')
  expect(t('{n} customer | {n} customers', { n: 1200 })).toBe('1,200 customers')
})

it('isolates a name that is written from right to left', () => {
  expect(t('Change {name}', { name: 'مخبز الميناء' })).toBe('Change \u2068مخبز الميناء\u2069')
})
