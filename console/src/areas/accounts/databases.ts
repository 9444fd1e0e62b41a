import type { Schemas } from '../../api/client'
import { t } from '../../language'

/** What people call the engines of databases. */
export const engines: Record<string, string> = { mariadb: 'MariaDB', postgresql: 'PostgreSQL' }

/** What a user of each level does with a database. */
export const levels: Record<Schemas['DatabaseLevel']['level'], string> = {
  read: t('reads rows'),
  write: t('changes rows'),
  all: t('changes tables'),
}

/** A result as CSV (RFC 4180); null is an empty value. */
export function csvOf(result: Schemas['StatementResult']): string {
  const cell = (value: string | null) =>
    value === null ? '' : /[",\r\n]/.test(value) ? `"${value.replaceAll('"', '""')}"` : value
  return [result.columns ?? [], ...(result.rows ?? [])].map((row) => (row ?? []).map(cell).join(',') + '\r\n').join('')
}

/** What an account over its limit may still do with its databases. */
export const growths: Record<Schemas['Database']['growth'], string> = {
  '': '',
  stopped: t('over the limit: read and delete only'),
  closed: t('over the limit: closed'),
}
