import { ServiceError } from './explain'
import { answerAt } from './live'
import { answer, type Schemas, service } from './service'

export type StoredItem = Schemas['Item']
export type Difference = Schemas['Difference']
export type Change = Schemas['Change']

/** An item as it is, with the tag that an edit of it names. */
export async function fetchItem(collection: string, item: string): Promise<StoredItem> {
  return answer(service.GET('/api/collections/{collection}/items/{item}', { params: { path: { collection, item } } }))
}

export type Edit = Schemas['Edit']
export type Verdict = Schemas['Verdict']

/** What an edit has not known of: the item as it is now, and what differs from what was seen. */
export interface Conflict {
  current: StoredItem
  differing: readonly Difference[]
}

/** A name of a request, under which it is not done twice. */
export const newName = () =>
  Array.from(crypto.getRandomValues(new Uint8Array(16)), (b) => b.toString(16).padStart(2, '0')).join('')

/** Does edits of the items of a collection, all or none; once, however often they are sent under a name. */
export async function saveEdits(collection: string, edits: Edit[], name = newName()): Promise<Schemas['Edits']> {
  const params = { path: { collection }, header: { 'Idempotency-Key': name } }
  const call = () => service.POST('/api/collections/{collection}/changes', { params, body: { edits } })
  return answer(call().catch(call)) // the first may have been carried out all the same
}

/** What stands against each of some edits, by the error that they came to. */
export function verdictsOf(error: unknown): readonly Verdict[] {
  if (!(error instanceof ServiceError)) return []
  return ((error.problem ?? {}) as { edits?: Verdict[] }).edits ?? []
}

/** Returns what stands against an edit if somebody else has changed the item, or null. */
export function conflictOf(error: unknown): Conflict | null {
  const verdict = verdictsOf(error).find((v) => v.current)
  return verdict?.current ? { current: verdict.current, differing: verdict.differing ?? [] } : null
}

/** The name of the property at a JSON Pointer into an item. */
export const propertyAt = (pointer: string) =>
  pointer
    .replace(/^\/properties\//, '')
    .replace(/~1/g, '/')
    .replace(/~0/g, '~')

/** Whether an error says that the service cannot be reached, or cannot do its work for a while. */
export const isAway = (error: unknown) =>
  error instanceof TypeError || (error instanceof ServiceError && error.status >= 502 && error.status <= 504)

/** What a listing of changes asks for. */
export interface History {
  collection: string // "" for all
  way: string // "" for any
  actor: string // "" for anybody
  from: string // a day, such as 2026-04-12; "" for from the beginning
  until: string // a day; "" for until now
  box: string // west, south, east, north in degrees; "" for everywhere
  before: number // only changes with smaller numbers; 0 for all
}

export function historyPath(h: History): string {
  const query = new URLSearchParams({ limit: '50' })
  if (h.collection) query.set('collections', h.collection)
  if (h.way) query.set('way', h.way)
  if (h.actor) query.set('actor', h.actor)
  const moment = (day: string, end: boolean) =>
    day ? new Date(`${day}T${end ? '23:59:59' : '00:00:00'}`).toISOString().replace('.000Z', 'Z') : '..'
  if (h.from || h.until) query.set('datetime', `${moment(h.from, false)}/${moment(h.until, true)}`)
  if (h.box) query.set('bbox', h.box)
  if (h.before) query.set('before', String(h.before))
  return `/api/changes?${query}`
}

/** Fetches a page of changes, newest first, and whether more follow. */
export async function fetchHistory(h: History, signal: AbortSignal): Promise<{ changes: Change[]; more: boolean }> {
  const page = await answerAt<Schemas['Changes']>(historyPath(h), signal)
  return { changes: page.changes, more: page.links.some((l) => l.rel === 'next') }
}

/**
 * Takes back a change by another, together with what was asked for as one, and returns the number of that. Its error
 * lists what was done later, if that stands against it.
 */
export async function undoChange(change: number, force: boolean, together = false): Promise<number> {
  const params = { path: { change: String(change) } }
  return (await answer(service.POST('/api/changes/{change}/undo', { params, body: { force, together } }))).change
}
