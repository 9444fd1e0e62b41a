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
  return n.toLocaleString('en')
}

/** Writes a moment in the reader's own time zone. */
export function moment(text: string | null | undefined): string {
  if (!text) return 'never'
  const d = new Date(text)
  const pad = (n: number) => String(n).padStart(2, '0')
  return `${d.getFullYear()}-${pad(d.getMonth() + 1)}-${pad(d.getDate())} ${pad(d.getHours())}:${pad(d.getMinutes())}:${pad(d.getSeconds())}`
}

/** Writes how long ago a moment was. */
export function ago(text: string | null | undefined): string {
  if (!text) return 'never'
  const s = Math.max(0, Math.round((Date.now() - new Date(text).getTime()) / 1000))
  if (s < 60) return `${s} s ago`
  if (s < 3600) return `${Math.round(s / 60)} min ago`
  if (s < 172800) return `${Math.round(s / 3600)} h ago`
  return `${Math.round(s / 86400)} days ago`
}

/** Writes the time between two moments in seconds. */
export function took(from: string | null | undefined, to: string | null | undefined): string {
  if (!from || !to) return ''
  return `${((new Date(to).getTime() - new Date(from).getTime()) / 1000).toFixed(2)} s`
}
