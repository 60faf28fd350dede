import type { Item } from '../api/items'

/** A property of a collection's items, and whether any of them has it as a number. */
export interface Property {
  name: string
  number: boolean
}

/** The properties of some items, in the order in which they come. */
export function propertiesOf(items: readonly Item[]): Property[] {
  const found = new Map<string, boolean>()
  for (const item of items) {
    for (const [name, value] of Object.entries(item.properties))
      found.set(name, (found.get(name) ?? false) || typeof value === 'number')
  }
  return [...found].map(([name, number]) => ({ name, number }))
}

/** What was typed as a number, or undefined if nothing was. */
export function numberOf(e: Event): number | undefined {
  const text = (e.target as HTMLInputElement).value.trim()
  const n = Number(text)
  return text === '' || Number.isNaN(n) ? undefined : n
}

export const textOf = (e: Event): string => (e.target as HTMLInputElement).value

/** An object with one member changed; one that is undefined or an empty text goes. */
export function having<T extends object, K extends keyof T>(
  o: T | undefined,
  member: K,
  value: T[K] | undefined | '',
): T {
  const { [member]: _, ...rest } = (o ?? {}) as T
  return (value === undefined || value === '' ? rest : { ...rest, [member]: value }) as T
}

/** A list with one of its elements before the one that was above it. */
export function lifted<T>(list: readonly T[], i: number): T[] {
  const next = [...list]
  next.splice(i - 1, 0, ...next.splice(i, 1))
  return next
}
