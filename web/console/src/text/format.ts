// Numbers, dates and plurals, as the language of the page has them.

export const language = document.documentElement.lang || 'en'
const numbers = new Intl.NumberFormat(language)
const moments = new Intl.DateTimeFormat(language, { dateStyle: 'medium', timeStyle: 'short' })
const percents = new Intl.NumberFormat(language, { style: 'percent', maximumFractionDigits: 0 })
const plurals = new Intl.PluralRules(language)

export const numberText = (n: number): string => numbers.format(n)

const rounded = new Intl.NumberFormat(language, { maximumSignificantDigits: 3 })

/** Writes a number with three digits at most that count. */
export const roundedText = (n: number): string => rounded.format(n)

/** Writes a count with the word for what is counted. */
export function counted(n: number, one: string, many: string): string {
  return `${numbers.format(n)} ${plurals.select(n) === 'one' ? one : many}`
}

/** Writes a moment from its RFC 3339 text. */
export const momentText = (text: string): string => moments.format(new Date(text))

/** Writes a share of 1, rounded down so that what is not whole is not called 100 %. */
export const shareText = (share: number): string => percents.format(Math.floor(share * 100) / 100)

/** The whole address of a path of the service. */
export const pageLink = (path: string): string => window.location.origin + path
