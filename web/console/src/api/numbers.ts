import type { Badge } from '@idlebeacon/map'
import type { Schemas } from './service'
import type { StyleDocument } from './styles'

type Total = Schemas['Total']

/** What people call a property: as the popup or the tooltip of a style has it, or its name as words. */
export function calledIn(style: StyleDocument, property: string): string {
  const fields = [...(style.tooltip ?? []), ...(style.popup?.fields ?? [])]
  return fields.find((f) => f.property === property && f.label)?.label ?? property.replaceAll('_', ' ')
}

/** What a badge says of numbers by their totals; nothing if there are none. The name is that of the property. */
export function told(show: string | undefined, name: string, totals: readonly Total[]): { badge?: Badge } {
  const some = totals.filter((t) => t.count > 0)
  if (some.length === 0) return {}
  const sum = some.reduce((n, t) => n + (t.sum ?? 0), 0)
  switch (show) {
    case 'sum':
      return { badge: { number: sum, says: `${name} in all` } }
    case 'mean':
      return { badge: { number: sum / some.reduce((n, t) => n + t.count, 0), says: `mean of ${name}` } }
    case 'least':
      return { badge: { number: Math.min(...some.map((t) => t.least ?? Infinity)), says: `least ${name}` } }
    case 'greatest':
      return { badge: { number: Math.max(...some.map((t) => t.greatest ?? -Infinity)), says: `greatest ${name}` } }
  }
  return {}
}
