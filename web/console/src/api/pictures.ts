import { answer, type Schemas, service } from './service'

export type Picture = Schemas['Picture']

/** Brings a picture that items of a collection can show. */
export async function addPicture(collection: string, file: File): Promise<Picture> {
  const call = service.POST('/api/collections/{collection}/pictures', {
    params: { path: { collection } },
    body: file as unknown as string,
    bodySerializer: (body) => body as unknown as File,
    headers: { 'Content-Type': 'application/octet-stream' },
  })
  return answer(call)
}

/** Whether a value is a picture that was brought, or the address of one. */
export const isPicture = (value: unknown): value is string =>
  typeof value === 'string' && (value.startsWith('https://') || (value.startsWith('/') && !value.startsWith('//')))

/** The address of a picture in a size; one from elsewhere has only its own. */
export const inSize = (href: string, size: 'small' | 'medium' | 'large') =>
  /^\/api\/collections\/[^/]+\/pictures\//.test(href) ? `${href}?size=${size}` : href
