import { describe, expect, it } from 'vitest'

const texts = import.meta.glob<string>('../src/**/*.{vue,css,ts}', {
  query: '?raw',
  import: 'default',
  eager: true,
})

describe('styles', () => {
  it('name only colours and sizes that there are', () => {
    const all = Object.values(texts).join('\n')
    const set = new Set([...all.matchAll(/(--[a-z][a-z0-9-]*)['"]?\s*:/g)].map(([, name]) => name))
    const missing = Object.entries(texts).flatMap(([file, text]) =>
      // What is put together by code ends in a dash.
      [...text.matchAll(/var\((--[a-z][a-z0-9-]*)/g)]
        .filter(([, used]) => !set.has(used) && !used.endsWith('-'))
        .map(([, used]) => `${file}: ${used}`),
    )
    expect([set.size > 20, missing]).toEqual([true, []])
  })
})
