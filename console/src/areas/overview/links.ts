import type { Schemas } from '../../api/client'

type Kind = Schemas['Attention']['kind']

const dayAgo = () => new Date(Date.now() - 24 * 3600_000).toISOString().slice(0, 16) + 'Z'

/** The list that shows everything of a kind that needs somebody; nothing where there is none. */
export function listLink(kind: Kind): string | undefined {
  switch (kind) {
    case 'certificates-failing':
      return '/certificates?state=failing'
    case 'certificates-ending':
      return '/certificates?days=14'
    case 'operations-stuck':
      return '/operations?state=running'
    case 'operations-failed':
      return `/operations?state=failed&since=${dayAgo()}`
    case 'domains-waiting':
      return '/domains?waiting=true'
    case 'accounts-drifting':
      return '/accounts?needs=drift'
    case 'accounts-warned':
      return '/accounts?needs=warning'
    case 'sending-stopped':
      return '/messages?outcome=failed'
    case 'accounts-full':
      return '/accounts?needs=disk'
    case 'server-unreachable':
    case 'server-program-down':
    case 'server-full':
    case 'server-limits-missing':
      return '/servers'
  }
}

/** The page of one case, by its name. */
export function caseLink(kind: Kind, name: string): string | undefined {
  if (kind.startsWith('server-')) return `/servers/${name}`
  if (kind.startsWith('accounts-')) return `/accounts/${name}`
  if (kind === 'certificates-failing' || kind === 'certificates-ending') return `/certificates?search=${name}`
  if (kind === 'sending-stopped') return `/accounts/${name}/mail`
  if (kind === 'domains-waiting') return `/domains?search=${name}`
  return undefined
}

/** Where a figure leads. */
export function figureLink(key: string): string {
  if (key.startsWith('disk.')) return `/servers/${key.slice('disk.'.length)}`
  if (key === 'operations-failed') return '/operations?state=failed'
  return `/${key}`
}
