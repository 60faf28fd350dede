import type { Edit } from './edits'
import { ServiceError } from './explain'
import { answerAt } from './live'
import { answer, collectionPath, type Schemas, service } from './service'

export type Suggestion = Schemas['Suggestion']

const one = '/api/collections/{collection}/suggestions/{suggestion}'

export async function suggest(collection: string, edit: Edit, note: string): Promise<Suggestion> {
  const body = { ...edit, ...(note && { note }) }
  return answer(service.POST('/api/collections/{collection}/suggestions', { params: { path: { collection } }, body }))
}

export const suggestionsPath = (collection: string, state: string) =>
  `${collectionPath(collection)}/suggestions?limit=100${state && `&state=${state}`}`

export async function fetchSuggestions(
  collection: string,
  state: string,
  signal: AbortSignal,
): Promise<{ suggestions: Suggestion[]; more: boolean }> {
  const page = await answerAt<Schemas['Suggestions']>(suggestionsPath(collection, state), signal)
  return { suggestions: page.suggestions, more: page.links.some((l) => l.rel === 'next') }
}

/** A suggestion, for who has made it or may decide on it. */
export async function fetchSuggestion(collection: string, suggestion: string, secret: string): Promise<Suggestion> {
  const params = { path: { collection, suggestion }, query: secret ? { secret } : {} }
  return answer(service.GET(one, { params, cache: 'no-store' }))
}

export async function withdrawSuggestion(collection: string, suggestion: string, secret: string): Promise<void> {
  await answer(service.DELETE(one, { params: { path: { collection, suggestion }, query: secret ? { secret } : {} } }))
}

/** Makes the edit that was suggested, if the item is still as it was seen. */
export async function acceptSuggestion(s: Suggestion, word: string, instead?: Edit): Promise<Schemas['Edits']> {
  const params = {
    path: { collection: s.collection, suggestion: s.id },
    header: s.now?.etag ? { 'If-Match': s.now.etag } : {},
  }
  const body = { ...(word && { word }), ...(instead && { edit: instead }) }
  return answer(service.POST(`${one}/accept`, { params, body }))
}

export async function declineSuggestion(s: Suggestion, word: string): Promise<void> {
  const params = { path: { collection: s.collection, suggestion: s.id } }
  await answer(service.POST(`${one}/decline`, { params, body: word ? { word } : {} }))
}

/** Whether somebody has decided on a suggestion, or changed its item, since it was looked at. */
export const isOvertaken = (e: unknown) => e instanceof ServiceError && (e.status === 409 || e.status === 412)
