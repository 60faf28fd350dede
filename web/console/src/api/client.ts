import type { Box, Marker } from '@idlebeacon/map'
import type { components } from './schema'

export type Collection = components['schemas']['Collection']
export type Item = components['schemas']['Item']
type Markers = components['schemas']['Markers']

/** An answer of the service that says what went wrong. */
export class ProblemError extends Error {
  constructor(
    readonly status: number,
    detail: string,
  ) {
    super(detail)
  }
}

async function get<T>(path: string, signal?: AbortSignal): Promise<T> {
  const response = await fetch(path, { signal: signal ?? null, headers: { Accept: 'application/json' } })
  if (!response.ok) {
    const problem = (await response.json().catch(() => ({}))) as { detail?: string }
    throw new ProblemError(response.status, problem.detail ?? `The service answered ${response.status} ${response.statusText}.`)
  }
  return (await response.json()) as T
}

const collectionPath = (id: string) => `/api/collections/${encodeURIComponent(id)}`

const boxText = (b: Box) => [b.west, b.south, b.east, b.north].map((v) => Number(v.toFixed(7))).join(',')

export async function fetchCollections(signal?: AbortSignal): Promise<Collection[]> {
  return (await get<components['schemas']['Collections']>('/api/collections', signal)).collections
}

export function fetchItem(collection: string, id: string, signal: AbortSignal): Promise<Item> {
  return get<Item>(`${collectionPath(collection)}/items/${encodeURIComponent(id)}`, signal)
}

/** Fetches the first items of a box, and how many there are. */
export async function fetchItemsIn(collection: string, box: Box, limit: number, signal: AbortSignal): Promise<{ items: Item[]; matched: number }> {
  const page = await get<components['schemas']['Items']>(`${collectionPath(collection)}/items?bbox=${boxText(box)}&limit=${limit}`, signal)
  return { items: page.features, matched: page.numberMatched }
}

export function fetchBackdrop(): Promise<GeoJSON.FeatureCollection> {
  return get<GeoJSON.FeatureCollection>('/api/backdrop')
}

/** Fetches the markers of a box. Categories are in the order of the legend. */
export async function fetchMarkers(collection: string, box: Box, zoom: number, categories: readonly string[], signal: AbortSignal): Promise<Marker[]> {
  const order = new Map(categories.map((c, i) => [c, i]))
  const place = (c: string) => order.get(c) ?? categories.length
  const answer = await get<Markers>(`${collectionPath(collection)}/markers?bbox=${boxText(box)}&zoom=${zoom}`, signal)
  return answer.features.map((f): Marker => {
    const [lon = 0, lat = 0] = f.geometry.coordinates
    const p = f.properties
    const extent = p.extent && { west: p.extent[0] ?? 0, south: p.extent[1] ?? 0, east: p.extent[2] ?? 0, north: p.extent[3] ?? 0 }
    return {
      key: f.id !== undefined ? `place ${f.id}` : `cluster ${lon} ${lat}`,
      at: { lon, lat },
      id: f.id ?? '',
      name: p.name ?? '',
      category: p.category ?? '',
      count: p.count ?? 1,
      tally: Object.entries(p.tally ?? {}).sort(([a], [b]) => place(a) - place(b)),
      opensAt: p.opens_at ?? null,
      extent: extent ?? null,
    }
  })
}
