import { createI18n } from 'vue-i18n'
import type { App } from 'vue'

/** One language's texts, by the English ones; a text that is missing is shown in English. */
type Catalogue = Record<string, string>

// The English texts are in the code. Every other language is a file in languages/, named after its tag (RFC 5646).
const files = import.meta.glob<Catalogue>('./languages/*.json', { import: 'default' })

/** The tags of all languages that there are, English first. */
export const languages = ['en', ...Object.keys(files).map((path) => path.replace(/^.*\/|\.json$/g, ''))]

const key = 'victualler.language'

/** The language of this browser's console: the one that was chosen, else one that the browser asks for. */
export const language =
  [localStorage.getItem(key), ...navigator.languages.map((tag) => tag.split('-')[0]!)].find(
    (tag) => tag !== null && languages.includes(tag),
  ) ?? 'en'

/** What a language is called by those who speak it. */
export function nameOf(tag: string): string {
  const name = new Intl.DisplayNames([tag], { type: 'language' }).of(tag) ?? tag
  return name.charAt(0).toLocaleUpperCase(tag) + name.slice(1)
}

/** Has the console speak another language: it is loaded anew, as texts are looked up once. */
export function speak(tag: string) {
  if (tag === language || !languages.includes(tag)) return
  localStorage.setItem(key, tag)
  location.reload()
}

const choice = 'victualler.language.chosen'

/** Speaks a language that somebody has chosen before they signed in: the sign-in takes it along. */
export function choose(tag: string) {
  sessionStorage.setItem(choice, tag)
  speak(tag)
}

/** What was chosen before the sign-in, if anything. */
export const chosen = (): string | undefined => sessionStorage.getItem(choice) ?? undefined

/** The service knows what was chosen. */
export const settled = () => sessionStorage.removeItem(choice)

const numbers = new Intl.NumberFormat(language)

/** Writes a number as the language does. */
export const number = (n: number): string => numbers.format(n)

// A text with plurals has them in the order of CLDR's categories, those that the language has: in English one, other.
const plurals = new Intl.PluralRules(language)
const categories = (['zero', 'one', 'two', 'few', 'many', 'other'] as const).filter((category) =>
  plurals.resolvedOptions().pluralCategories.includes(category),
)

const i18n = createI18n({
  legacy: false,
  globalInjection: false,
  locale: language,
  fallbackLocale: 'en',
  messages: { en: {} as Catalogue, [language]: (await files[`./languages/${language}.json`]?.()) ?? {} },
  // Texts are their own keys: dots in them are no paths, and what is missing is formatted as it is.
  messageResolver: (catalogue, text) => (catalogue as Catalogue)[text] ?? null,
  fallbackFormat: true,
  missingWarn: false,
  fallbackWarn: false,
  pluralRules: {
    [language]: (n: number, choices: number) => Math.min(categories.indexOf(plurals.select(n)), choices - 1),
  },
})

/** Whether the language is written from right to left. */
const rightToLeft = ['ar', 'fa', 'he', 'ur'].includes(language)

/** Keeps a value that is written in the other direction from moving what stands around it (UAX #9, section 2.4). */
const isolated = (value: string): string =>
  (rightToLeft ? /\p{L}/u : /[\p{Script=Arabic}\p{Script=Hebrew}]/u).test(value) ? `\u2068${value}\u2069` : value

const write = (value: unknown): unknown =>
  typeof value === 'number' ? number(value) : typeof value === 'string' ? isolated(value) : value

/**
 * Says a text in the language of the console. Values are put where it has their names in braces, numbers written as
 * the language does. The value `n` chooses among plurals, which are parted by " | ".
 */
export function t(text: string, values: Record<string, unknown> = {}): string {
  const written = Object.fromEntries(Object.entries(values).map(([name, value]) => [name, write(value)]))
  return typeof values.n === 'number' ? i18n.global.t(text, written, values.n) : i18n.global.t(text, written)
}

/** What has templates say texts: `$t` is {@link t}, `<i18n-t>` a text with elements in it. */
export const texts = {
  install(app: App) {
    app.use(i18n)
    app.config.globalProperties.$t = t as typeof app.config.globalProperties.$t
  },
}

document.documentElement.lang = language
document.documentElement.dir = rightToLeft ? 'rtl' : 'ltr'
