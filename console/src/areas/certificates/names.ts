import { t } from '../../language'

/** The names that a site's certificate can be for. */
export const possible = (domain: string) => [domain, `www.${domain}`, `*.${domain}`]

export const keyTypes = ['ecdsa-p256', 'ecdsa-p384', 'rsa-2048', 'rsa-3072', 'rsa-4096']

/** How a name is proved, in words. */
export const ways: Record<string, string> = {
  http: t('over HTTP'),
  zone: t('in its zone here'),
  alias: t('through our zone for challenges'),
  hand: t('by hand'),
}
