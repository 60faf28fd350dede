import type { Box, Drawing, LonLat, Marker, Shape } from '@idlebeacon/map'
import type { components } from './schema'

export type Collection = components['schemas']['Collection']
/** An item. Its id may be a number in GeoJSON, and is a text in paths. */
export type Item = Omit<components['schemas']['Item'], 'id'> & { id: string }
const itemOf = (item: components['schemas']['Item']): Item => ({ ...item, id: String(item.id) })
export type Legend = components['schemas']['Legend']
export type StyleText = components['schemas']['Style']
export type StoredStyle = components['schemas']['StoredStyle']
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

export async function get<T>(path: string, signal?: AbortSignal): Promise<T> {
  const response = await fetch(path, { signal: signal ?? null, headers: { Accept: 'application/json' } })
  if (!response.ok) throw await problemOf(response)
  return (await response.json()) as T
}

export const collectionPath = (id: string) => `/api/collections/${encodeURIComponent(id)}`

const boxText = (b: Box) => [b.west, b.south, b.east, b.north].map((v) => Number(v.toFixed(7))).join(',')

export async function fetchCollections(signal?: AbortSignal): Promise<Collection[]> {
  return (await get<components['schemas']['Collections']>('/api/collections', signal)).collections
}

export type PopupContent = components['schemas']['Popup']

/** What the popup of an item shows. */
export function fetchPopup(
  collection: string,
  id: string,
  draft: StyleText | undefined,
  signal: AbortSignal,
): Promise<PopupContent> {
  return get<PopupContent>(
    `${collectionPath(collection)}/items/${encodeURIComponent(id)}/popup${trying(draft)}`,
    signal,
  )
}

/** Sends something and reads the answer. */
export async function send<T>(
  method: string,
  path: string,
  body: BodyInit | null,
  contentType: string,
  signal?: AbortSignal,
): Promise<T> {
  const response = await fetch(path, { method, body, headers: { 'Content-Type': contentType }, signal: signal ?? null })
  if (!response.ok) throw await problemOf(response)
  return (response.status === 204 ? undefined : await response.json()) as T
}

async function problemOf(response: Response): Promise<ProblemError> {
  const problem = (await response.json().catch(() => ({}))) as { detail?: string }
  return new ProblemError(
    response.status,
    problem.detail ?? `The service answered ${response.status} ${response.statusText}.`,
  )
}

const stylePath = (collection: string) => `${collectionPath(collection)}/style`
export const fetchStyle = (collection: string) => get<StoredStyle>(stylePath(collection))

/** The style with its tag, which tells whether somebody has changed it since. */
export async function fetchTaggedStyle(collection: string): Promise<{ style: StoredStyle; tag: string }> {
  const response = await fetch(stylePath(collection), { cache: 'no-store' })
  if (!response.ok) throw await problemOf(response)
  return { style: (await response.json()) as StoredStyle, tag: response.headers.get('ETag') ?? '*' }
}

/** The parameter that tries a style which is not kept yet. */
const trying = (draft?: StyleText) => (draft ? `?${new URLSearchParams({ style: JSON.stringify(draft) })}` : '')
export const fetchLegend = (collection: string, draft?: StyleText, signal?: AbortSignal) =>
  get<Legend>(`${collectionPath(collection)}/legend${trying(draft)}`, signal)

/** Keeps a style, or none for one that is made from the categories, if it is still the one with the tag; "*" for any. */
export async function saveStyle(collection: string, style: StyleText | null, tag: string): Promise<void> {
  const body = style && JSON.stringify(style)
  const response = await fetch(stylePath(collection), {
    method: body ? 'PUT' : 'DELETE',
    body,
    headers: { 'Content-Type': 'application/json', 'If-Match': tag },
  })
  if (!response.ok) throw await problemOf(response)
}

export type Icon = components['schemas']['Icon']

/** All icons as one SVG document. */
export async function fetchSprite(): Promise<string> {
  const response = await fetch('/api/sprite')
  if (!response.ok) throw await problemOf(response)
  return response.text()
}
export const saveIcon = (name: string, picture: File) =>
  send<Icon>('PUT', `/api/icons/${encodeURIComponent(name)}`, picture, 'application/octet-stream')
export const deleteIcon = (name: string) =>
  send<undefined>('DELETE', `/api/icons/${encodeURIComponent(name)}`, null, 'application/json')

export type Inspection = components['schemas']['Inspection']
export type FileNote = components['schemas']['FileNote']
export type FileSide = NonNullable<FileNote['sides']>[number]
export type Setting = NonNullable<FileNote['set']>[number]
export type ImportReport = components['schemas']['ImportReport']

/** How a file is to be read: parameters of the service. */
export type FileOptions = Record<string, string>

/** Tells what is in a file that is meant for a collection. Of a very large one only the beginning is sent. */
export function inspectFile(
  file: File,
  into: string,
  options: FileOptions,
  category: string | null,
  signal: AbortSignal,
): Promise<Inspection> {
  const most = 256 << 20 // bytes
  const whole = file.size <= most || /\.kmz$/i.test(file.name)
  const q = new URLSearchParams({
    ...options,
    ...(into && { into }),
    ...(category !== null && { category_property: category }),
    partial: String(!whole),
  })
  return send('POST', `/api/inspect?${q}`, whole ? file : file.slice(0, most), 'application/octet-stream', signal)
}

export type Import = components['schemas']['Import']

/** What a new collection is made with, together with what is imported into it. */
export type NewCollection = Omit<components['schemas']['NewCollection'], 'id'>

/**
 * Sends a file that is then imported, telling the share of it that has been sent. Broken off before all of it is sent,
 * nothing is imported; after that it is too late to break off, and the answer comes.
 */
export function sendImport(
  file: File,
  into: string,
  make: NewCollection | null,
  options: FileOptions,
  progress: (share: number) => void,
  signal: AbortSignal,
): Promise<Import> {
  return new Promise((resolve, reject) => {
    const request = new XMLHttpRequest() // fetch does not tell how much it has sent
    const query = new URLSearchParams({
      ...options,
      file_name: file.name,
      ...(make ? { ...make, create: 'true' } : {}),
    })
    request.open('POST', `${collectionPath(into)}/import?${query}`)
    request.setRequestHeader('Content-Type', 'application/octet-stream')
    request.setRequestHeader('Prefer', 'respond-async')
    request.responseType = 'json'
    request.upload.onprogress = (e) => progress(e.total > 0 ? e.loaded / e.total : 0)
    request.onload = () => {
      if (request.status === 202) resolve(request.response as Import)
      else
        reject(
          new ProblemError(
            request.status,
            (request.response as { detail?: string } | null)?.detail ?? `The service answered ${request.status}.`,
          ),
        )
    }
    request.onerror = () => reject(new TypeError('the service does not answer'))
    request.onabort = () => reject(new DOMException('cancelled', 'AbortError'))
    let sent = false
    request.upload.onload = () => (sent = true)
    signal.addEventListener('abort', () => {
      if (!sent) request.abort()
    })
    request.send(file)
  })
}

const importPath = (id: string) => `/api/imports/${encodeURIComponent(id)}`
export const fetchImport = (id: string) => get<Import>(importPath(id))
export const fetchImports = async (limit: number) =>
  (await get<{ imports: Import[] }>(`/api/imports?limit=${limit}`)).imports
export const dismissImport = (id: string) => send<undefined>('DELETE', importPath(id), null, 'application/json')
export const rejectedPath = (id: string) => `${importPath(id)}/rejected`

export const deleteCollection = (id: string) => send<undefined>('DELETE', collectionPath(id), null, 'application/json')
export const exportPath = (id: string, format: string, parameters = new URLSearchParams()) =>
  `${collectionPath(id)}/export?${new URLSearchParams([['format', format], ...parameters])}`

/** Fetches some of the items of a collection that meet a condition, in an order. */
export async function fetchItems(
  collection: string,
  filter: string,
  sort: string,
  offset: number,
  limit: number,
  signal: AbortSignal,
): Promise<{ items: Item[]; matched: number }> {
  const q = new URLSearchParams({
    limit: String(limit),
    offset: String(offset),
    ...(filter && { filter }),
    ...(sort && { sortby: sort.replace(/[\\,]/g, '\\$&') }),
  })
  const page = await get<components['schemas']['Items']>(`${collectionPath(collection)}/items?${q}`, signal)
  return { items: page.features.map(itemOf), matched: page.numberMatched }
}

/** What a user has chosen of a collection's places. */
export interface Chosen {
  hidden: readonly string[] // categories that are switched off
  name: string // only places whose name contains this
  filter: string // only places that meet this condition
}

export const everything: Chosen = { hidden: [], name: '', filter: '' }

/** The parameters that choose what is in a box. */
export function exported(box: Box | null, chosen: Chosen, categories: readonly string[]): URLSearchParams {
  const q = selection(chosen, categories)
  if (box) q.set('bbox', boxText(box))
  return q
}

/** The parameters that choose. Categories are those of the collection. */
function selection(chosen: Chosen, categories: readonly string[]): URLSearchParams {
  const q = new URLSearchParams()
  if (chosen.name) q.set('name', chosen.name)
  if (chosen.filter) q.set('filter', chosen.filter)
  if (chosen.hidden.length > 0) {
    const left = categories.filter((c) => !chosen.hidden.includes(c))
    q.set('category', left.map((c) => c.replace(/[\\,]/g, '\\$&')).join(','))
  }
  return q
}

/** Counts the places that meet a name and condition, by category. */
export async function fetchCounts(
  collection: string,
  chosen: Chosen,
  signal: AbortSignal,
): Promise<{ counts: Map<string, number>; matched: number }> {
  const q = selection({ ...chosen, hidden: [] }, [])
  const answer = await get<components['schemas']['Categories']>(`${collectionPath(collection)}/categories?${q}`, signal)
  return { counts: new Map(answer.categories.map((c) => [c.category, c.count])), matched: answer.matched }
}

/** Fetches the places behind a marker that come after the given id, and how many there are in all. */
export async function fetchMembers(
  collection: string,
  marker: Marker,
  zoom: number,
  chosen: Chosen,
  categories: readonly string[],
  after: string,
  signal: AbortSignal,
): Promise<{ items: Item[]; matched: number }> {
  const q = selection(chosen, categories)
  q.set('lat', String(marker.at.lat))
  q.set('lon', String(marker.at.lon))
  q.set('zoom', String(zoom))
  q.set('limit', '50')
  if (after) q.set('after', after)
  const page = await get<components['schemas']['Items']>(`${collectionPath(collection)}/members?${q}`, signal)
  return { items: page.features.map(itemOf), matched: page.numberMatched }
}

/** How far the nearest places of a position reach, in metres; null where there are none but one. */
export async function fetchReach(collection: string, at: LonLat, places: number): Promise<number | null> {
  const q = new URLSearchParams({ lat: String(at.lat), lon: String(at.lon), limit: String(places) })
  const found = await get<components['schemas']['Neighbours']>(`${collectionPath(collection)}/near?${q}`)
  return found.features.at(-1)?.properties.distance || null
}

export function fetchBackdrop(): Promise<GeoJSON.FeatureCollection> {
  return get<GeoJSON.FeatureCollection>('/api/backdrop')
}

/** Fetches the areas and paths of a box, the lowest first; drawn in a style that is being tried, if there is one. */
export async function fetchShapes(
  collection: string,
  box: Box,
  zoom: number,
  chosen: Chosen,
  categories: readonly string[],
  signal: AbortSignal,
  draft?: StyleText,
): Promise<Shape[]> {
  if (categories.length > 0 && categories.every((c) => chosen.hidden.includes(c))) return []
  const answer = await get<components['schemas']['Shapes']>(
    viewPath('shapes', collection, box, zoom, chosen, categories, draft),
    signal,
  )
  return answer.features.map((f) => ({
    id: f.id,
    name: f.properties.name ?? '',
    category: f.properties.category ?? '',
    drawing: drawingOf(f.properties),
    geometry: f.geometry as GeoJSON.Geometry,
  }))
}

/** Fetches the markers of a box. Categories are in the order of the legend. */
export async function fetchMarkers(
  collection: string,
  box: Box,
  zoom: number,
  chosen: Chosen,
  categories: readonly string[],
  signal: AbortSignal,
  draft?: StyleText,
): Promise<Marker[]> {
  if (categories.length > 0 && categories.every((c) => chosen.hidden.includes(c))) return []
  const order = new Map(categories.map((c, i) => [c, i]))
  const place = (c: string) => order.get(c) ?? categories.length
  const answer = await get<Markers>(viewPath('markers', collection, box, zoom, chosen, categories, draft), signal)
  const keys = new Set<string>()
  return answer.features.map((f): Marker => {
    const [lon = 0, lat = 0] = f.geometry.coordinates
    const p = f.properties
    const extent = p.extent && {
      west: p.extent[0] ?? 0,
      south: p.extent[1] ?? 0,
      east: p.extent[2] ?? 0,
      north: p.extent[3] ?? 0,
    }
    let key = `${p.kind} ${f.id}`
    while (keys.has(key)) key += ' again' // ids of clusters are hashes, so two could be the same
    keys.add(key)
    return {
      key,
      kind: p.kind,
      at: { lon, lat },
      id: p.kind === 'place' ? f.id : '',
      name: p.name ?? '',
      category: p.category ?? '',
      drawing: drawingOf(p),
      count: p.count ?? 1,
      tally: Object.entries(p.tally ?? {}).sort(([a], [b]) => place(a) - place(b)),
      opensAt: p.opens_at ?? null,
      extent: extent ?? null,
      stacked: (p.places ?? []).map((s) => ({ id: s.id, name: s.name ?? '', category: s.category ?? '' })),
    }
  })
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

function viewPath(
  what: 'markers' | 'shapes',
  collection: string,
  box: Box,
  zoom: number,
  chosen: Chosen,
  categories: readonly string[],
  draft?: StyleText,
): string {
  const q = selection(chosen, categories)
  q.set('bbox', boxText(box))
  q.set('zoom', String(zoom))
  if (draft) q.set('style', JSON.stringify(draft))
  return `${collectionPath(collection)}/${what}?${q.toString().replaceAll('%2C', ',')}`
}

/** Fetches the area that the places of a cluster cover, as rings. */
export async function fetchOutline(
  collection: string,
  cluster: Marker,
  zoom: number,
  chosen: Chosen,
  categories: readonly string[],
  signal: AbortSignal,
): Promise<LonLat[][]> {
  if (!cluster.extent) return []
  const answer = await get<Markers>(
    `${viewPath('markers', collection, cluster.extent, zoom, chosen, categories)}&outline=true`,
    signal,
  )
  const outline = answer.features.find(
    (f) => f.properties.kind === 'cluster' && cluster.key.startsWith(`cluster ${f.id}`),
  )?.properties.outline
  if (!outline) return []
  const ring = (positions: unknown) => (positions as [number, number][]).map(([lon, lat]) => ({ lon, lat }))
  switch (outline.type) {
    case 'Polygon':
      return (outline.coordinates as unknown[]).map(ring)
    case 'MultiPolygon':
      return (outline.coordinates as unknown[][]).flatMap((area) => area.map(ring))
    case 'LineString':
      return [ring(outline.coordinates)]
  }
  return []
}
