import type { Box, Density, DensityCell, Drawing, Marker, Position, Shape } from '@idlebeacon/map'
import { calledIn, told } from './numbers'
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
  const badge = v.draft?.badge && { ...v.draft.badge, name: calledIn(v.draft, v.draft.badge.property ?? '') }
  const ask = asked(v, box, zoom, signal, badge?.property ? { numbers: [badge.property] } : {})
  const path = '/api/collections/{collection}/markers'
  const found = await answer(v.draft ? service.POST(path, { ...ask, body: v.draft }) : service.GET(path, ask))
  const order = new Map(v.categories.map((c, i) => [c, i]))
  const rank = (c: string) => order.get(c) ?? v.categories.length
  const once = keysOnce()
  return found.features.map((f) => markerOf(f, once(`${f.properties.kind} ${f.id}`), rank, badge))
}

/** Returns what makes keys different from those before: ids of clusters are hashes, so two could be the same. */
export function keysOnce(): (key: string) => string {
  const keys = new Set<string>()
  return (wanted) => {
    let key = wanted
    while (keys.has(key)) key += ' again'
    keys.add(key)
    return key
  }
}

function markerOf(
  f: Schemas['Markers']['features'][number],
  key: string,
  rank: (category: string) => number,
  badge: (Schemas['StyleNumber'] & { name: string }) | undefined,
): Marker {
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
    ...(badge && told(badge.show, badge.name, Object.values(p.numbers ?? {}))),
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

/** Fetches the cells to shade of a box at a zoom. */
export async function fetchDensity(v: Viewport, box: Box, zoom: number, signal?: AbortSignal): Promise<Density> {
  const ask = asked(v, box, zoom, signal)
  const path = '/api/collections/{collection}/density'
  const found = await answer(v.draft ? service.POST(path, { ...ask, body: v.draft }) : service.GET(path, ask))
  const [low = 0, high = 0] = found.range
  return { ...found, range: [low, high], cells: found.cells as unknown as DensityCell[] }
}

/** The rings of an outline. */
export function ringsOf(outline: GeoJSON.Geometry | undefined): Position[][] {
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

function asked<More extends object = object>(v: Viewport, box: Box, zoom: number, signal?: AbortSignal, more?: More) {
  const query = { ...selection(v.chosen, v.categories), bbox: bboxOf(box), zoom, ...more }
  return { params: { path: { collection: v.collection }, query }, signal: signal ?? null }
}

/** What the data make of a look, without what they leave to it. */
export function drawingOf({ rule, size, colour, radius, tip }: Drawing): Drawing {
  return {
    ...(rule !== undefined && { rule }),
    ...(size !== undefined && { size }),
    ...(colour !== undefined && { colour }),
    ...(radius !== undefined && { radius }),
    ...(tip !== undefined && { tip }),
  }
}
