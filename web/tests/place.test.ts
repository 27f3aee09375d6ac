import { expect, test } from 'vitest'
import { ADDRESS, API, BELOW, belowOf } from '../src/api/place'

test.each([
  ['', '/', ''],
  ['', '/orchard/models', ''],
  ['/kinetrum', '/kinetrum', '/kinetrum'],
  ['/kinetrum', '/kinetrum/', '/kinetrum'],
  ['/kinetrum', '/kinetrum/orchard', '/kinetrum'],
  // Asked directly, and not by the address that others open.
  ['/kinetrum', '/', ''],
  ['/kinetrum', '/kinetrums/orchard', ''],
])('below %s, the page %s is below %s', (path, page, below) => {
  expect(belowOf(path, page)).toBe(below)
})

test('at the root nothing stands before', () => {
  expect([BELOW, API, ADDRESS]).toEqual(['', '/api/v1', 'http://127.0.0.1:7373'])
})
