import type { Schemas } from './api/client'
import { readAmount, size } from './words'
import { t } from './language'

type Info = Schemas['SettingInfo']
const units: [string, number][] = [
  ['d', 86400],
  ['h', 3600],
  ['m', 60],
  ['s', 1],
]

/** Writes a length of time in the largest unit that divides it, such as 30d. */
export function span(n: number): string {
  if (n === 0) return '0'
  const [unit, length] = units.find(([, u]) => n % u === 0)!
  return `${n / length}${unit}`
}

/** Writes a value of a setting as people type it. */
export function writeSetting(info: Info, value: unknown): string {
  if (info.kind === 'size') {
    const text = size(value as number)
    const back = readAmount(text, 'bytes')
    return 'value' in back && back.value === value ? text : `${value}B`
  }
  if (info.kind === 'seconds') return span(value as number)
  if (Array.isArray(value)) return value.join(', ')
  if (info.kind === 'map')
    return Object.entries(value as Record<string, string>)
      .map(([name, v]) => `${name}: ${v}`)
      .join('\n')
  return String(value)
}

/** Reads a value as people type it; what cannot be read is told in words. */
export function readSetting(info: Info, typed: string): { value: unknown } | { wrong: string } {
  const text = typed.trim()
  switch (info.kind) {
    case 'size': {
      const read = readAmount(text, 'bytes')
      return 'value' in read && read.value === null ? { wrong: t('a size is needed, such as 64M') } : read
    }
    case 'seconds': {
      if (text === '0') return { value: 0 }
      const match = /^(\d{1,9})([dhms])$/.exec(text)
      if (match) return { value: Number(match[1]) * units.find(([u]) => u === match[2])![1] }
      return {
        wrong: /^\d+$/.test(text)
          ? t('{text} what? write {text}s, {text}m, {text}h or {text}d', { text })
          : t('“{text}” is not a length of time; write such as 90s, 5m, 12h or 30d', { text }),
      }
    }
    case 'number':
      return /^\d{1,9}$/.test(text) ? { value: Number(text) } : { wrong: t('“{text}” is not a number', { text }) }
    case 'choices':
    case 'paths':
    case 'networks':
      return { value: text.split(/[\s,]+/).filter(Boolean) }
    case 'map': {
      const map: Record<string, string> = {}
      for (const line of typed.split('\n')) {
        if (!line.trim()) continue
        const at = line.indexOf(':')
        if (at < 1)
          return { wrong: t('“{trim}” has no colon; write NAME: VALUE, one on each line', { trim: line.trim() }) }
        map[line.slice(0, at).trim()] = line.slice(at + 1).trim()
      }
      return { value: map }
    }
    case 'text':
      return { value: typed }
  }
  return { value: text }
}
