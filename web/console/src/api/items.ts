import type { Position } from '@idlebeacon/map'
import { type Chosen, selection } from './selection'
import { answerAt } from './live'
import { answer, collectionPath, listed, type Schemas, service } from './service'
import type { StyleDocument } from './styles'

/** An item. Its id may be a number in GeoJSON, and is a text in paths. */
export type Item = Omit<Schemas['Item'], 'id'> & { id: string }
export type PopupContent = Schemas['Popup']

/** A page of items, and how many there are in all. */
export interface Page {
  items: Item[]
  matched: number
}

const pageOf = (p: Schemas['Items']): Page => ({
  items: p.features.map((item) => ({ ...item, id: String(item.id) })),
  matched: p.numberMatched,
})

/** What a listing of items asks for. */
export interface Listing {
  filter: string // a condition, or ""
  sort: string // a property, with - before it for descending order, or "" for the order of ids
  offset: number
  limit: number
}

/** Fetches some of the items of a collection. */
export async function fetchItems(collection: string, l: Listing, signal?: AbortSignal): Promise<Page> {
  const query = {
    limit: l.limit,
    offset: l.offset,
    ...(l.filter && { filter: l.filter }),
    ...(l.sort && { sortby: listed(l.sort) }),
  }
  const params = { path: { collection }, query }
  const found = await answer(service.GET('/api/collections/{collection}/items', { params, signal: signal ?? null }))
  return pageOf(found as Schemas['Items']) // as they are, not as they were
}

/** Fetches an item. */
export const fetchItem = (collection: string, item: string) =>
  answerAt<Schemas['Item']>(itemPath(collection, item), null)

/** What the popup of an item shows, in a style that is being tried if there is one. */
export async function fetchPopup(
  collection: string,
  item: string,
  draft: StyleDocument | undefined,
  signal: AbortSignal,
): Promise<PopupContent> {
  if (!draft) return answerAt<PopupContent>(popupPath(collection, item), signal)
  const path = '/api/collections/{collection}/items/{item}/popup'
  return answer(service.POST(path, { params: { path: { collection, item } }, signal, body: draft }))
}

export const itemPath = (collection: string, item: string) =>
  `${collectionPath(collection)}/items/${encodeURIComponent(item)}`

export const popupPath = (collection: string, item: string) => `${itemPath(collection, item)}/popup`

/** Counts the places that meet a name and condition, by category. */
export async function fetchCounts(
  collection: string,
  chosen: Chosen,
  signal: AbortSignal,
): Promise<{ counts: Map<string, number>; matched: number }> {
  const params = { path: { collection }, query: selection({ ...chosen, hidden: [] }, []) }
  const found = await answer(service.GET('/api/collections/{collection}/categories', { params, signal }))
  return { counts: new Map(found.categories.map((c) => [c.category, c.count])), matched: found.matched }
}

/** How far the nearest places of a position reach, in metres; null if there are none but one. */
export async function fetchReach(collection: string, at: Position, places: number): Promise<number | null> {
  const params = { path: { collection }, query: { ...at, limit: places } }
  const found = await answer(service.GET('/api/collections/{collection}/near', { params }))
  return found.features.at(-1)?.properties.distance || null
}
