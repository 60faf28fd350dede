import { answer, type Schemas, service } from './service'

export type Key = Schemas['Key']
export type NewKey = Schemas['NewKey']
export type Role = Schemas['Role']

/** All keys, page by page. */
export async function fetchKeys(): Promise<Key[]> {
  const all: Key[] = []
  for (let more = true; more;) {
    const after = all.at(-1)?.id
    const page = await answer(service.GET('/api/keys', { params: { query: { ...(after && { after }) } } }))
    all.push(...page.keys)
    more = page.keys.length > 0 && page.links.some((link) => link.rel === 'next')
  }
  return all
}

/** The key that would be made, with what it would be able to do. */
export async function draftKey(key: NewKey, signal: AbortSignal): Promise<Key> {
  return answer(service.POST('/api/keys', { params: { query: { dry_run: true } }, body: key, signal }))
}

/** Makes a key. Its secret is in the answer, and can never be had again. */
export async function makeKey(key: NewKey): Promise<Key> {
  return answer(service.POST('/api/keys', { body: key }))
}

export async function revokeKey(key: string): Promise<void> {
  await answer(service.DELETE('/api/keys/{key}', { params: { path: { key } } }))
}
