import { language, number, t } from './language'

const tenths = new Intl.NumberFormat(language, { maximumFractionDigits: 1, useGrouping: false })
const wholes = new Intl.NumberFormat(language, { maximumFractionDigits: 0, useGrouping: false })
const hundredths = new Intl.NumberFormat(language, { minimumFractionDigits: 2, maximumFractionDigits: 2 })
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
  return `${n >= 100 ? wholes.format(n) : tenths.format(n)}${unit}`
}

/** Writes an amount in its unit; null is unlimited. */
export function amount(n: number | null | undefined, unit: string): string {
  if (n === undefined) return '–'
  if (n === null) return t('unlimited')
  if (unit === 'bytes') return size(n)
  if (unit === 'percent') return `${n}%`
  if (unit === 'seconds') return `${n}s`
  return number(n)
}

// English dates are written as ISO 8601 has them, as Swedish does: they sort, and nobody has to guess which is the
// month. Every other language writes its own.
const dates = language === 'en' ? 'sv-SE' : language
const day = { year: 'numeric', month: '2-digit', day: '2-digit' } as const
const minute = { ...day, hour: '2-digit', minute: '2-digit' } as const
const moments = new Intl.DateTimeFormat(dates, { ...minute, second: '2-digit' })
const minutes = new Intl.DateTimeFormat(dates, minute)
const days = new Intl.DateTimeFormat(dates, day)

/** Writes a moment in the reader's own time zone: 2026-11-27 14:05:09. */
export function moment(text: string | null | undefined): string {
  return text ? moments.format(new Date(text)) : t('never')
}

/** Writes a moment without its seconds. */
export const minuteOf = (text: string): string => minutes.format(new Date(text))

/** Writes the day of a moment. */
export const dayOf = (text: string): string => days.format(new Date(text))

const spans = (['second', 'minute', 'hour', 'day'] as const).map(
  (unit) => new Intl.NumberFormat(language, { style: 'unit', unit, unitDisplay: unit === 'day' ? 'long' : 'short' }),
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
  if (!text) return t('never')
  return t('{span} ago', { span: span(Math.max(0, (Date.now() - new Date(text).getTime()) / 1000)) })
}

/** Writes how long it is until a moment, or how long ago it was. */
export function until(text: string): string {
  const seconds = (new Date(text).getTime() - Date.now()) / 1000
  return seconds < 0 ? t('{span} ago', { span: span(-seconds) }) : span(Math.max(60, seconds))
}

/** Writes the time between two moments in seconds. */
export function took(from: string | null | undefined, to: string | null | undefined): string {
  if (!from || !to) return ''
  return `${hundredths.format((new Date(to).getTime() - new Date(from).getTime()) / 1000)} s`
}

/** Reads an amount as people write it: null is unlimited. What cannot be read is told in words. */
export function readAmount(text: string, unit: string): { value: number | null } | { wrong: string } {
  const typed = text.trim()
  if (typed === 'unlimited' || typed === t('unlimited')) return { value: null }
  if (unit !== 'bytes') {
    const n = typed.replace(/[%s]$/, '')
    if (!/^\d{1,15}$/.test(n)) return { wrong: t('“{text}” is not a number; write a number or unlimited', { text }) }
    return { value: Number(n) }
  }
  const match = /^(\d+(?:[.,]\d+)?)\s*(?:([kmgt])i?b?|(b))?$/i.exec(typed)
  if (!match)
    return {
      wrong: t('“{text}” is not a size; write a number and a unit, such as 500M, 20G or 1.5T, or unlimited', { text }),
    }
  const [, digits, letter, plain] = match
  const n = Number(digits!.replace(',', '.'))
  if (letter) return { value: Math.floor(n * 1024 ** ('kmgt'.indexOf(letter.toLowerCase()) + 1)) }
  if (n === 0 || plain) return { value: Math.floor(n) }
  return { wrong: t('{typed} what? write {typed}M or {size}', { typed, size: size(n * 1024 ** 2) }) }
}

/** Mail addresses as they are typed: one in a line, or with commas between them. */
export const addressList = (typed: string): string[] => typed.split(/[\s,;]+/).filter(Boolean)

/** A moment as the day that a date field has, moved by days, and back: the last day of an absence ends with it. */
export function localDay(moment: string | null | undefined, plus = 0) {
  if (!moment) return ''
  const d = new Date(moment)
  d.setDate(d.getDate() + plus)
  return [d.getFullYear(), d.getMonth() + 1, d.getDate()].map((n) => String(n).padStart(2, '0')).join('-')
}
export function momentOf(day: string, plus = 0) {
  if (!day) return undefined
  const d = new Date(`${day}T00:00:00`)
  d.setDate(d.getDate() + plus)
  return d.toISOString()
}
