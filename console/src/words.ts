const units = ['K', 'M', 'G', 'T'] as const

/** Writes bytes the way the client does: powers of 1024, one decimal at most. */
export function size(bytes: number | null | undefined): string {
  if (bytes === null || bytes === undefined) return '–'
  if (bytes < 1024) return `${bytes}B`
  let n = bytes
  let unit = ''
  for (const u of units) {
    if (n < 1024) break
    n /= 1024
    unit = u
  }
  return `${n.toFixed(n >= 100 || Number.isInteger(n) ? 0 : 1).replace(/\.0$/, '')}${unit}`
}

/** Writes an amount in its unit; null is unlimited. */
export function amount(n: number | null | undefined, unit: string): string {
  if (n === undefined) return '–'
  if (n === null) return 'unlimited'
  if (unit === 'bytes') return size(n)
  if (unit === 'percent') return `${n}%`
  if (unit === 'seconds') return `${n}s`
  return n.toLocaleString('en')
}

// Swedish writes dates and times as ISO 8601 does, so that they sort and nobody has to guess which is the month.
const moments = new Intl.DateTimeFormat('sv-SE', { dateStyle: 'short', timeStyle: 'medium' })

/** Writes a moment in the reader's own time zone: 2026-11-27 14:05:09. */
export function moment(text: string | null | undefined): string {
  return text ? moments.format(new Date(text)) : 'never'
}

const spans = (['second', 'minute', 'hour', 'day'] as const).map(
  (unit) => new Intl.NumberFormat('en', { style: 'unit', unit, unitDisplay: unit === 'day' ? 'long' : 'short' }),
)

/** Writes a span of time in its largest unit of which there are at least two: "90 min", "3 hr", "12 days". */
function span(seconds: number): string {
  const sizes = [1, 60, 3600, 86400]
  let largest = 0
  for (const [i, size] of sizes.entries()) if (seconds >= size * (i === 1 ? 1 : 2)) largest = i
  return spans[largest]!.format(Math.floor(seconds / sizes[largest]!))
}

/** Writes how long ago a moment was. */
export function ago(text: string | null | undefined): string {
  if (!text) return 'never'
  return `${span(Math.max(0, (Date.now() - new Date(text).getTime()) / 1000))} ago`
}

/** Writes how long it is until a moment, or how long ago it was. */
export function until(text: string): string {
  const seconds = (new Date(text).getTime() - Date.now()) / 1000
  return seconds < 0 ? `${span(-seconds)} ago` : span(Math.max(60, seconds))
}

/** Writes the time between two moments in seconds. */
export function took(from: string | null | undefined, to: string | null | undefined): string {
  if (!from || !to) return ''
  return `${((new Date(to).getTime() - new Date(from).getTime()) / 1000).toFixed(2)} s`
}

/** Reads an amount as people write it: null is unlimited. What cannot be read is told in words. */
export function readAmount(text: string, unit: string): { value: number | null } | { wrong: string } {
  const t = text.trim()
  if (t === 'unlimited') return { value: null }
  if (unit !== 'bytes') {
    const n = t.replace(/[%s]$/, '')
    if (!/^\d{1,15}$/.test(n)) return { wrong: `“${text}” is not a number; write a number or unlimited` }
    return { value: Number(n) }
  }
  const match = /^(\d+(?:\.\d+)?)\s*(?:([kmgt])i?b?|(b))?$/i.exec(t)
  if (!match)
    return { wrong: `“${text}” is not a size; write a number and a unit, such as 500M, 20G or 1.5T, or unlimited` }
  const [, digits, letter, plain] = match
  const n = Number(digits)
  if (letter) return { value: Math.floor(n * 1024 ** ('kmgt'.indexOf(letter.toLowerCase()) + 1)) }
  if (n === 0 || plain) return { value: Math.floor(n) }
  return { wrong: `${t} what? write ${t}M or ${size(n * 1024 ** 2)}` }
}

/** Counts things: "1 account", "3 accounts". */
export function counted(n: number, what: string): string {
  return `${n.toLocaleString('en')} ${what}${n === 1 ? '' : 's'}`
}

/** Writes the name of a recorded value for people: "limits.disk" is "disk". */
export function valueName(name: string): string {
  return name
    .replace(/^(limits|settings)\./, '')
    .replace(/^features\./, 'feature ')
    .replaceAll('_', ' ')
}
