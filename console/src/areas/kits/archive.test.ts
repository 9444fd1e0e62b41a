import { expect, test } from 'vitest'
import { digestOf, inBase64 } from './archive'

test('a digest is what sha256sum writes', async () => {
  expect(await digestOf(new Blob(['abc']))).toBe('ba7816bf8f01cfea414140de5dae2223b00361a396177a9cb410ff61f20015ad')
})

test('any bytes become Base64', () => {
  expect(inBase64(new Uint8Array([0, 255, 16]).buffer)).toBe('AP8Q')
})
