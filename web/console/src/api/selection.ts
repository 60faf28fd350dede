import type { Box } from '@idlebeacon/map'
import { collectionPath, listed } from './service'

/** What a user has chosen of a collection's places. */
export interface Chosen {
  hidden: readonly string[] // categories that are switched off
  name: string // only places whose name contains this
  filter: string // only places that meet this condition
}

export const everything: Chosen = { hidden: [], name: '', filter: '' }

/** West, south, east and north, with the decimals that a map needs. */
export function bboxOf(b: Box): [number, number, number, number] {
  const [west = 0, south = 0, east = 0, north = 0] = [b.west, b.south, b.east, b.north].map((v) => Number(v.toFixed(7)))
  return [west, south, east, north]
}

/** The box of a bbox, or null if it is none. */
export function boxOf(bbox: readonly number[] | undefined): Box | null {
  const [west, south, east, north] = bbox ?? []
  return west === undefined || south === undefined || east === undefined || north === undefined
    ? null
    : { west, south, east, north }
}

/** Whether a choice leaves nothing, whatever is asked for. */
export function isNothing(chosen: Chosen, categories: readonly string[]): boolean {
  return categories.length > 0 && categories.every((c) => chosen.hidden.includes(c))
}

/** The parameters that choose. Categories are those of the collection. */
export function selection(chosen: Chosen, categories: readonly string[]) {
  return {
    ...(chosen.name && { name: chosen.name }),
    ...(chosen.filter && { filter: chosen.filter }),
    ...(chosen.hidden.length > 0 && {
      category: categories
        .filter((c) => !chosen.hidden.includes(c))
        .map(listed)
        .join(','),
    }),
  }
}

/** The link that exports what is chosen of a collection in a format; box is null for everywhere. */
export function exportLink(
  collection: string,
  format: string,
  box: Box | null,
  chosen: Chosen,
  categories: readonly string[],
): string {
  const q = new URLSearchParams({ format, ...selection(chosen, categories) })
  if (box) q.set('bbox', bboxOf(box).join(','))
  return `${collectionPath(collection)}/export?${q}`
}
