import { answerAt } from './live'
import { answer, type Schemas, service } from './service'

export type Collection = Schemas['Collection']

export const collectionsPath = '/api/collections'

export async function fetchCollections(signal?: AbortSignal): Promise<Collection[]> {
  return (await answerAt<Schemas['Collections']>(collectionsPath, signal ?? null)).collections
}

export async function deleteCollection(collection: string): Promise<void> {
  await answer(service.DELETE('/api/collections/{collection}', { params: { path: { collection } } }))
}

export type Deleted = Schemas['DeletedCollection']

/** The collections that can be brought back, the last deleted first. */
export async function fetchDeleted(): Promise<Deleted[]> {
  return (await answer(service.GET('/api/deleted', { cache: 'no-store' }))).deleted
}

const deletedBy = (change: number) => ({ path: { change: String(change) } })

/** Brings back the collection that a change has deleted; under another id, if one is given. */
export async function restoreDeleted(change: number, id: string): Promise<void> {
  const params = deletedBy(change)
  await answer(service.POST('/api/deleted/{change}/restore', { params, body: id ? { id } : {} }))
}

export async function purgeDeleted(change: number): Promise<void> {
  await answer(service.DELETE('/api/deleted/{change}', { params: deletedBy(change) }))
}

/** Says what guests may do with a collection, and from pages of which other sites. */
export async function setGuests(
  collection: string,
  guests: Collection['guests'],
  guest_origins: string[],
): Promise<void> {
  await answer(
    service.PATCH('/api/collections/{collection}', {
      params: { path: { collection } },
      body: { guests, guest_origins },
    }),
  )
}

/** Land outlines to draw below the markers. */
export async function fetchBackdrop(): Promise<GeoJSON.FeatureCollection> {
  return (await answer(service.GET('/api/backdrop'))) as unknown as GeoJSON.FeatureCollection
}
