import type { Badge, Box, Density, Marker, Position, Shape, Share, StackedPlace } from '@idlebeacon/map'
import { bboxOf, boxOf, type Chosen, isNothing, selection } from './selection'
import { answerAt } from './live'
import { answer, type Schemas, service } from './service'
import { told } from './numbers'
import { drawingOf, fetchDensity, keysOnce, ringsOf } from './view'

/** What is shown of a collection, with others. */
export interface Layer {
  collection: string
  title: string
  chosen: Chosen
  categories: readonly string[] // of the collection, in the order of the legend
  apart?: boolean // its places do not gather with those of others
  badge?: (Schemas['StyleNumber'] & { name: string }) | undefined // what its clusters tell, and its name for people
  density?: { to?: number; zooms?: { from: number; to: number } | undefined } | undefined // where it is shaded
}

/** Fetches the markers of a box at a zoom: those of all layers gather together. */
export async function fetchMarkersOf(
  layers: readonly Layer[],
  box: Box,
  zoom: number,
  signal: AbortSignal,
): Promise<Marker[]> {
  const shown = showing(layers)
  if (shown.length === 0) return []
  const found = await markers(shown, box, zoom, signal, false)
  const rank = ranking(shown)
  const once = keysOnce()
  return found.features.map((f) => markerOf(f, once(`${f.properties.kind} ${f.id}`), shown, rank))
}

/** Fetches the areas and paths of a box at a zoom, the lowest first. */
export async function fetchShapesOf(
  layers: readonly Layer[],
  box: Box,
  zoom: number,
  signal: AbortSignal,
): Promise<Shape[]> {
  const shown = showing(layers)
  if (shown.length === 0) return []
  const found = await answerAt<Schemas['JointShapes']>(shapesPath(shown, box, zoom), signal)
  return found.features.map((f) => ({
    id: f.properties.item,
    layer: f.properties.collection,
    name: f.properties.name ?? '',
    category: f.properties.category ?? '',
    drawing: drawingOf(f.properties),
    geometry: f.geometry as GeoJSON.Geometry,
  }))
}

/** Fetches the cells to shade of a box at a zoom, of the layers that are drawn as density there. */
export async function fetchDensitiesOf(
  layers: readonly Layer[],
  box: Box,
  zoom: number,
  signal: AbortSignal,
): Promise<Density[]> {
  const shaded = showing(layers).filter(
    ({ density: d }) => d && zoom <= (d.to ?? Infinity) && (!d.zooms || (zoom >= d.zooms.from && zoom <= d.zooms.to)),
  )
  return Promise.all(
    shaded.map(async ({ collection, chosen, categories }) => ({
      layer: collection,
      ...(await fetchDensity({ collection, chosen, categories }, box, zoom, signal)),
    })),
  )
}

/** Fetches the rings around the places of a cluster: asked for by its own box, with its outline. */
export async function fetchOutlineOf(
  layers: readonly Layer[],
  marker: Marker,
  zoom: number,
  signal: AbortSignal,
): Promise<Position[][]> {
  if (!marker.extent) return []
  const found = await markers(showing(layers), marker.extent, zoom, signal, true)
  const same = found.features.find((f) => f.properties.kind === 'cluster' && marker.key.startsWith(`cluster ${f.id}`))
  return ringsOf(same?.properties.outline as GeoJSON.Geometry | undefined)
}

/** Fetches the places behind a marker that come after the given one. */
export async function fetchMembersOf(
  layers: readonly Layer[],
  marker: Marker,
  zoom: number,
  after: StackedPlace | undefined,
  signal: AbortSignal,
): Promise<StackedPlace[]> {
  // Of one that is kept apart there may be another at the same spot.
  const of = marker.layer === undefined ? layers : layers.filter((l) => l.collection === marker.layer)
  const query = {
    ...asked(showing(of)),
    ...marker.at,
    zoom,
    limit: 50,
    ...(after && { after: `${after.layer}/${after.id}` }),
  }
  const found = await answer(service.GET('/api/members', { params: { query }, querySerializer, signal }))
  return found.places.map(stacked)
}

function markers(layers: readonly Layer[], box: Box, zoom: number, signal: AbortSignal, outline: boolean) {
  return answerAt<Schemas['JointMarkers']>(markersPath(layers, box, zoom, outline), signal)
}

function markersPath(layers: readonly Layer[], box: Box, zoom: number, outline: boolean): string {
  const query = { ...asked(layers), bbox: bboxOf(box), zoom, ...(outline && { outline }) }
  for (const { collection, badge } of layers)
    if (badge?.property) query.selections[`${collection}.numbers`] = badge.property
  return `/api/markers?${querySerializer(query)}`
}

function shapesPath(layers: readonly Layer[], box: Box, zoom: number): string {
  return `/api/shapes?${querySerializer({ ...asked(layers), bbox: bboxOf(box), zoom })}`
}

/** The paths of the answers that show layers, those of some with areas and paths. */
export function pathsOf(layers: readonly Layer[], withShapes: readonly Layer[], box: Box, zoom: number): string[] {
  const shown = showing(layers)
  const shapes = showing(withShapes)
  return [
    ...(shown.length > 0 ? [markersPath(shown, box, zoom, false)] : []),
    ...(shapes.length > 0 ? [shapesPath(shapes, box, zoom)] : []),
  ]
}

/** The layers of which anything is shown. */
const showing = (layers: readonly Layer[]) => layers.filter((l) => !isNothing(l.chosen, l.categories))

/** The parameters that name layers and choose of them. */
function asked(layers: readonly Layer[]) {
  const selections: Record<string, string> = {}
  for (const { collection, chosen, categories } of layers)
    for (const [name, value] of Object.entries(selection(chosen, categories)))
      selections[`${collection}.${name}`] = value
  return { collections: layers.map((l) => l.collection).join(','), selections }
}

/** Writes parameters, of which those that choose have names of their own. */
function querySerializer({ selections, ...others }: Record<string, unknown>): string {
  const all = Object.entries({ ...others, ...(selections as Record<string, string>) })
  return new URLSearchParams(all.map(([name, value]) => [name, String(value)])).toString()
}

/** Returns where a category stands in the legends of all layers. */
function ranking(layers: readonly Layer[]): (layer: string, category: string) => number {
  const first = new Map<string, number>()
  const order = new Map<string, number>()
  let next = 0
  for (const { collection, categories } of layers) {
    first.set(collection, next)
    for (const category of categories) order.set(`${collection}/${category}`, next++)
    next++ // for those that are not in the legend
  }
  return (layer, category) => order.get(`${layer}/${category}`) ?? (first.get(layer) ?? next) + 0.5
}

function markerOf(
  f: Schemas['JointMarker'],
  key: string,
  layers: readonly Layer[],
  rank: (layer: string, category: string) => number,
): Marker {
  const [lon = 0, lat = 0] = f.geometry.coordinates
  const p = f.properties
  const tally = Object.entries(p.tally ?? {})
    .flatMap(([layer, counts]) => Object.entries(counts).map(([category, n]): Share => [category, n, layer]))
    .sort(([a, , inA = ''], [b, , inB = '']) => rank(inA, a) - rank(inB, b))
  const parts = layers.flatMap(({ collection, title }): [string, number][] => {
    const counts = p.tally?.[collection]
    return counts ? [[title, Object.values(counts).reduce((a, b) => a + b, 0)]] : []
  })
  const only = Object.keys(p.tally ?? {})[0]
  const layer = p.collection ?? (layers.some((l) => l.apart && l.collection === only) ? only : undefined)
  return {
    key,
    ...(layer !== undefined && { layer }),
    kind: p.kind,
    at: { lon, lat },
    id: p.item ?? '',
    name: p.name ?? '',
    category: p.category ?? '',
    drawing: drawingOf(p),
    count: p.count ?? 1,
    tally,
    parts,
    ...badgeOf(p, layers),
    opensAt: p.opens_at ?? null,
    extent: boxOf(p.extent),
    stacked: (p.places ?? []).map(stacked),
  }
}

/** What the badge of a cluster tells, if the styles of all that is in it agree on what that is. */
function badgeOf(p: Schemas['JointMarker']['properties'], layers: readonly Layer[]): { badge?: Badge } {
  const inside = layers.filter((l) => p.tally?.[l.collection])
  const badge = inside[0]?.badge
  if (!badge?.property || !inside.every((l) => l.badge?.show === badge.show && l.badge?.property === badge.property))
    return {}
  const totals = inside.flatMap((l) => p.numbers?.[l.collection]?.[badge.property ?? ''] ?? [])
  return told(badge.show, badge.name, totals)
}

const stacked = (p: Schemas['JointPlace']): StackedPlace => ({
  id: p.id,
  layer: p.collection,
  name: p.name ?? '',
  category: p.category ?? '',
})
