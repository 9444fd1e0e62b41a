import type { Schemas } from '../../api/client'
import { t } from '../../language'

/** How a domain is served, as the form holds it. */
export interface Serving {
  served_as: Schemas['Domain']['served_as']
  root: string
  mirror_of: string
  target: string
  code: number
  keep_path: boolean
  keep_query: boolean
}

export const fresh = (): Serving => ({
  served_as: 'site',
  root: '',
  mirror_of: '',
  target: '',
  code: 301,
  keep_path: true,
  keep_query: true,
})

/** How a domain is served now. What only a redirect has is as for a fresh one where it is none. */
export const present = (d: Schemas['Domain']): Serving => ({
  ...fresh(),
  served_as: d.served_as,
  root: d.root ?? '',
  mirror_of: d.mirror_of ?? '',
  target: d.target ?? '',
  ...(d.served_as === 'redirect' && {
    code: d.code ?? 301,
    keep_path: Boolean(d.keep_path),
    keep_query: Boolean(d.keep_query),
  }),
})

/** What the API is told: only what the kind has. */
export function told(
  s: Serving,
): Schemas['NewDomain'] extends infer N ? Omit<N & object, 'domain' | '$schema'> : never {
  switch (s.served_as) {
    case 'site':
      return { served_as: s.served_as, root: s.root.trim() || undefined }
    case 'mirror':
      return { served_as: s.served_as, mirror_of: s.mirror_of || undefined }
    case 'redirect':
      return {
        served_as: s.served_as,
        target: s.target.trim() || undefined,
        code: s.code,
        keep_path: s.keep_path,
        keep_query: s.keep_query,
      }
  }
  return { served_as: s.served_as }
}

/** How a domain is served, in a few words. */
export function inWords(d: Schemas['Domain']): string {
  switch (d.served_as) {
    case 'site':
      return d.root ?? ''
    case 'mirror':
      return t('shows {mirror_of}', { mirror_of: d.mirror_of })
    case 'redirect':
      return `${d.code} → ${d.target}`
  }
  return t('no web server answers')
}
