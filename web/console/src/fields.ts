import type { StyleText } from './api/client'

type Field = NonNullable<NonNullable<StyleText['popup']>['fields']>[number]

/** A property as a popup shows it. */
export interface FieldShown {
  property: string
  label: string
  text: string
  href: string | null // where it leads
}

/**
 * The fields of a popup: those asked for, in their order, or all that are not told elsewhere. Those without a value are
 * left out.
 */
export function fieldsOf(properties: Record<string, unknown>, asked: readonly Field[], told: readonly (string | undefined)[]): FieldShown[] {
  const fields = asked.length > 0 ? asked : Object.keys(properties).map((property): Field => ({ property }))
  const hidden = asked.length > 0 ? [] : told
  return fields
    .filter((f) => !hidden.includes(f.property))
    .map((f) => shownOf(f, properties[f.property]))
    .filter((f) => f !== null)
}

function shownOf(f: Field, value: unknown): FieldShown | null {
  if (value === null || value === undefined || value === '') return null
  const plain = typeof value === 'object' ? JSON.stringify(value) : String(value)
  return { property: f.property, label: f.label || words(f.property), ...formatted(f.format ?? formatOf(value), plain, f.unit ?? '') }
}

/** A property's name as words: berths_max becomes "Berths max". */
function words(property: string): string {
  const spaced = property.replace(/[_]+/g, ' ').trim() || property
  return spaced.charAt(0).toUpperCase() + spaced.slice(1)
}

/** The format that a value has where none is asked for. */
function formatOf(value: unknown): string {
  if (typeof value === 'number') return 'number'
  if (typeof value !== 'string') return 'text'
  if (/^https?:\/\/\S+$/.test(value)) return 'link'
  if (/^\d{4}-\d{2}-\d{2}(T\d{2}:\d{2}.*)?$/.test(value)) return 'date'
  return 'text'
}

function formatted(format: string, text: string, unit: string): { text: string; href: string | null } {
  switch (format) {
    case 'number': {
      const n = Number(text)
      const digits = Number.isFinite(n) ? n.toLocaleString('en', { maximumFractionDigits: 6 }) : text
      return { text: unit ? `${digits} ${unit}` : digits, href: null }
    }
    case 'date': {
      const date = new Date(text)
      if (Number.isNaN(date.getTime())) break
      const day = { day: 'numeric', month: 'long', year: 'numeric' } as const
      const whole = text.length <= 10 // a date has no time zone
      return { text: whole ? date.toLocaleDateString('en', { ...day, timeZone: 'UTC' }) : date.toLocaleString('en', { ...day, hour: '2-digit', minute: '2-digit' }), href: null }
    }
    case 'link':
      if (/^https?:\/\//.test(text)) return { text: text.replace(/^https?:\/\//, ''), href: text }
      break
    case 'phone':
      if (/^[+\d][\d ()/-]+$/.test(text)) return { text, href: `tel:${text.replace(/[^+\d]/g, '')}` }
      break
    case 'lines':
      return { text: text.split(/\s*[;,\n]\s*/).join('\n'), href: null }
  }
  return { text, href: null }
}

/** The URL of a picture, if it is one that a page may show: a path of the service, or https. */
export function pictureOf(text: string): string | null {
  return /^(\/(?!\/)|https:\/\/)/.test(text) ? text : null
}
