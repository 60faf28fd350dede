import type { PopupContent } from '../api/items'
import { language } from './format'

type Field = PopupContent['fields'][number]

/** Writes the value of a field in the reader's way: numbers with their unit, dates in words. */
export function written(f: Field): string {
  switch (f.format) {
    case 'number': {
      const digits = f.number === undefined ? f.text : f.number.toLocaleString(language, { maximumFractionDigits: 6 })
      return f.unit ? `${digits} ${f.unit}` : digits
    }
    case 'date': {
      const date = new Date(f.text)
      if (Number.isNaN(date.getTime())) break
      const day = { day: 'numeric', month: 'long', year: 'numeric' } as const
      const whole = f.text.length <= 10 // a date has no time zone
      return whole
        ? date.toLocaleDateString(language, { ...day, timeZone: 'UTC' })
        : date.toLocaleString(language, { ...day, hour: '2-digit', minute: '2-digit' })
    }
    case 'lines':
      return f.lines?.join('\n') ?? f.text
  }
  return f.text
}
