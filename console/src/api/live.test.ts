// @vitest-environment happy-dom
import { expect, it } from 'vitest'
import { readEvents } from './live'

function read(text: string) {
  const told: [string, string][] = []
  const rest = readEvents(text, (event, data) => told.push([event, data]))
  return { told, rest }
}

it('reads whole events and leaves the rest', () => {
  expect(read('retry: 1000\n\nevent: changes\ndata: {"a":1}\n\nevent: cha')).toEqual({
    told: [['changes', '{"a":1}']],
    rest: 'event: cha',
  })
})

it('joins the lines of one event', () => {
  expect(read('data: one\ndata: two\n\n').told).toEqual([['message', 'one\ntwo']])
})

it('has nothing to tell of comments and numbers', () => {
  expect(read(': ping\n\nid: 7\n\n').told).toEqual([])
})
