import { expect, test } from 'vitest'
import { PAGES, PROJECT_PAGES } from '../src/pages/pages'

test('every page has an address of its own, and what the palette offers has one without blanks to fill', () => {
  const all = [...PAGES.map((page) => page.path), ...PROJECT_PAGES.map((page) => `/:project/${page.path}`)]
  expect(new Set(all).size).toBe(all.length)
  const offered = [...PAGES, ...PROJECT_PAGES].filter((page) => page.palette)
  const titles = offered.map((page) => page.palette?.title)
  expect(titles).toContain('Today')
  expect(titles).toContain('Bin')
  expect(new Set(titles).size).toBe(titles.length)
  expect(offered.filter((page) => page.path.includes(':'))).toEqual([])
})
