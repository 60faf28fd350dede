import type { Box, Drawing, Marker, Position, Shape } from '@idlebeacon/map'
import { bboxOf, boxOf, type Chosen, isNothing, selection } from './selection'
import { answer, type Schemas, service } from './service'
import type { StyleDocument } from './styles'

/** What a viewport asks for. */
export interface Viewport {
  collection: string
  chosen: Chosen
  categories: readonly string[] // of the collection, in the order of the legend
  draft?: StyleDocument // a style to try
}

/** Fetches the markers of a box at a zoom. */
export async function fetchMarkers(v: Viewport, box: Box, zoom: number, signal?: AbortSignal): Promise<Marker[]> {
  if (isNothing(v.chosen, v.categories)) return []
  const ask = asked(v, box, zoom, signal)
  const path = '/api/collections/{collection}/markers'
  const found = await answer(v.draft ? service.POST(path, { ...ask, body: v.draft }) : service.GET(path, ask))
  const order = new Map(v.categories.map((c, i) => [c, i]))
  const rank = (c: string) => order.get(c) ?? v.categories.length
  const keys = new Set<string>()
  return found.features.map((f) => {
    let key = `${f.properties.kind} ${f.id}`
    while (keys.has(key)) key += ' again' // ids of clusters are hashes, so two could be the same
    keys.add(key)
    return markerOf(f, key, rank)
  })
}

function markerOf(f: Schemas['Markers']['features'][number], key: string, rank: (category: string) => number): Marker {
  const [lon = 0, lat = 0] = f.geometry.coordinates
  const p = f.properties
  return {
    key,
    kind: p.kind,
    at: { lon, lat },
    id: p.kind === 'place' ? f.id : '',
    name: p.name ?? '',
    category: p.category ?? '',
    drawing: drawingOf(p),
    count: p.count ?? 1,
    tally: Object.entries(p.tally ?? {}).sort(([a], [b]) => rank(a) - rank(b)),
    opensAt: p.opens_at ?? null,
    extent: boxOf(p.extent),
    stacked: (p.places ?? []).map((s) => ({ id: s.id, name: s.name ?? '', category: s.category ?? '' })),
  }
}

/** Fetches the areas and paths of a box at a zoom, the lowest first. */
export async function fetchShapes(v: Viewport, box: Box, zoom: number, signal?: AbortSignal): Promise<Shape[]> {
  if (isNothing(v.chosen, v.categories)) return []
  const ask = asked(v, box, zoom, signal)
  const path = '/api/collections/{collection}/shapes'
  const found = await answer(v.draft ? service.POST(path, { ...ask, body: v.draft }) : service.GET(path, ask))
  return found.features.map((f) => ({
    id: f.id,
    name: f.properties.name ?? '',
    category: f.properties.category ?? '',
    drawing: drawingOf(f.properties),
    geometry: f.geometry as GeoJSON.Geometry,
  }))
}

/** Fetches the rings around the places of a cluster: asked for by its own box, with its outline. */
export async function fetchOutline(
  v: Viewport,
  marker: Marker,
  zoom: number,
  signal: AbortSignal,
): Promise<Position[][]> {
  if (!marker.extent) return []
  const { params } = asked(v, marker.extent, zoom, signal)
  const query = { ...params.query, outline: true }
  const found = await answer(
    service.GET('/api/collections/{collection}/markers', { params: { ...params, query }, signal }),
  )
  const same = found.features.find((f) => f.properties.kind === 'cluster' && marker.key.startsWith(`cluster ${f.id}`))
  return ringsOf(same?.properties.outline as GeoJSON.Geometry | undefined)
}

function ringsOf(outline: GeoJSON.Geometry | undefined): Position[][] {
  const ring = (positions: GeoJSON.Position[]) => positions.map(([lon = 0, lat = 0]) => ({ lon, lat }))
  switch (outline?.type) {
    case 'Polygon':
      return outline.coordinates.map(ring)
    case 'MultiPolygon':
      return outline.coordinates.flat().map(ring)
    case 'LineString':
      return [ring(outline.coordinates)]
  }
  return []
}

function asked(v: Viewport, box: Box, zoom: number, signal?: AbortSignal) {
  const query = { ...selection(v.chosen, v.categories), bbox: bboxOf(box), zoom }
  return { params: { path: { collection: v.collection }, query }, signal: signal ?? null }
}

function drawingOf({ rule, size, colour, radius, tip }: Drawing): Drawing {
  return {
    ...(rule !== undefined && { rule }),
    ...(size !== undefined && { size }),
    ...(colour !== undefined && { colour }),
    ...(radius !== undefined && { radius }),
    ...(tip !== undefined && { tip }),
  }
}
