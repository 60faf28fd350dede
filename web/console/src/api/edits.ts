import { ServiceError } from './explain'
import { answerAt } from './live'
import { itemPath } from './items'
import { answer, type Schemas, service } from './service'

export type StoredItem = Schemas['Item']
export type Difference = Schemas['Difference']
export type Change = Schemas['Change']

/** An item as it is, with the tag that an edit of it names. */
export async function fetchItem(collection: string, item: string): Promise<StoredItem> {
  return answer(service.GET('/api/collections/{collection}/items/{item}', { params: { path: { collection, item } } }))
}

/** What an edit has not known of: the item as it is now, and what differs from what was seen. */
export interface Conflict {
  current: StoredItem
  differing: readonly Difference[]
}

/** Returns what stands against an edit if somebody else has changed the item, or null. */
export function conflictOf(error: unknown): Conflict | null {
  if (!(error instanceof ServiceError) || error.status !== 412) return null
  const { current, differing } = error.problem as { current?: StoredItem; differing?: Difference[] }
  return current ? { current, differing: differing ?? [] } : null
}

/** Sends an edit under a name, so that it is not done twice however often it is sent. */
async function send(method: string, path: string, tag: string, body: unknown): Promise<StoredItem | null> {
  const headers: Record<string, string> = { 'Idempotency-Key': crypto.randomUUID() }
  if (tag) headers['If-Match'] = tag
  if (body !== null)
    headers['Content-Type'] = method === 'PATCH' ? 'application/merge-patch+json' : 'application/geo+json'
  const once = () => fetch(path, { method, headers, ...(body !== null && { body: JSON.stringify(body) }) })
  const response = await once().catch(once) // the first may have been carried out all the same
  if (response.status === 204) return null
  const found: unknown = await response.json().catch(() => null)
  if (!response.ok) throw ServiceError.of(response.status, found)
  return found as StoredItem
}

export const createItem = (collection: string, item: object) =>
  send('POST', `/api/collections/${encodeURIComponent(collection)}/items`, '', item)

/** Changes an item by a merge patch, if it is still the one with the tag. */
export const patchItem = (collection: string, item: string, patch: object, tag: string) =>
  send('PATCH', itemPath(collection, item), tag, patch)

export const deleteItem = (collection: string, item: string, tag: string) =>
  send('DELETE', itemPath(collection, item), tag, null)

/** What a listing of changes asks for. */
export interface History {
  collection: string // "" for all
  way: string // "" for any
  actor: string // "" for anybody
  before: number // only changes with smaller numbers; 0 for all
}

export function historyPath(h: History): string {
  const query = new URLSearchParams({ limit: '50' })
  if (h.collection) query.set('collections', h.collection)
  if (h.way) query.set('way', h.way)
  if (h.actor) query.set('actor', h.actor)
  if (h.before) query.set('before', String(h.before))
  return `/api/changes?${query}`
}

/** Fetches a page of changes, newest first, and whether more follow. */
export async function fetchHistory(h: History, signal: AbortSignal): Promise<{ changes: Change[]; more: boolean }> {
  const page = await answerAt<Schemas['Changes']>(historyPath(h), signal)
  return { changes: page.changes, more: page.links.some((l) => l.rel === 'next') }
}

/** Takes back a change. Its error lists what was done later, if that stands against it. */
export async function undoChange(change: number, force: boolean): Promise<void> {
  const params = { path: { change: String(change) } }
  await answer(service.POST('/api/changes/{change}/undo', { params, body: { force } }))
}
