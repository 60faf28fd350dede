import { answer, type Schemas, service } from './service'

export type Collection = Schemas['Collection']

export async function fetchCollections(signal?: AbortSignal): Promise<Collection[]> {
  return (await answer(service.GET('/api/collections', { signal: signal ?? null }))).collections
}

export async function deleteCollection(collection: string): Promise<void> {
  await answer(service.DELETE('/api/collections/{collection}', { params: { path: { collection } } }))
}

/** Land outlines to draw below the markers. */
export async function fetchBackdrop(): Promise<GeoJSON.FeatureCollection> {
  return (await answer(service.GET('/api/backdrop'))) as unknown as GeoJSON.FeatureCollection
}
