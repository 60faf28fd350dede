import { answerAt } from './live'
import { answer, collectionPath, type Schemas, service } from './service'

export type Legend = Schemas['Legend']
/** A style as its document has it. */
export type StyleDocument = Schemas['Style']
export type StoredStyle = Schemas['StoredStyle']

const path = '/api/collections/{collection}/style'

export async function fetchStyle(collection: string): Promise<StoredStyle> {
  return answer(service.GET(path, { params: { path: { collection } } }))
}

/** The style with its tag, which reports whether somebody has changed it since. */
export async function fetchTaggedStyle(collection: string): Promise<{ style: StoredStyle; tag: string }> {
  const call = service.GET(path, { params: { path: { collection } }, cache: 'no-store' })
  const style = await answer(call)
  return { style, tag: (await call).response.headers.get('ETag') ?? '*' }
}

/** Keeps a style if it is still the one with the tag; "*" for any. */
export async function saveStyle(collection: string, style: StyleDocument, tag: string): Promise<void> {
  await answer(service.PUT(path, { params: { path: { collection }, header: { 'If-Match': tag } }, body: style }))
}

/** Lets the style be made from the categories again, if it is still the one with the tag. */
export async function resetStyle(collection: string, tag: string): Promise<void> {
  await answer(service.DELETE(path, { params: { path: { collection }, header: { 'If-Match': tag } } }))
}

export const legendPath = (collection: string) => `${collectionPath(collection)}/legend`

/** The key to how a collection is drawn, or would be in a style that is being tried. */
export async function fetchLegend(collection: string, draft?: StyleDocument): Promise<Legend> {
  if (!draft) return answerAt<Legend>(legendPath(collection), null)
  return answer(service.POST('/api/collections/{collection}/legend', { params: { path: { collection } }, body: draft }))
}
