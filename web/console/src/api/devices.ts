import type { Box, Marker } from '@idlebeacon/map'
import { answerAt } from './live'
import { bboxOf, boxOf } from './selection'
import { answer, listed, type Schemas, service } from './service'
import { keysOnce } from './view'

export type Group = Schemas['Group']
export type Device = Schemas['Device']
export type Track = Schemas['Track']
export type Past = Schemas['DevicesAt']

/** The paths of answers that are followed. */
export const groupsPath = '/api/groups'
export const devicePath = (id: string) => `/api/devices/${encodeURIComponent(id)}`

export const fetchGroups = (signal: AbortSignal | null = null) =>
  answerAt<Schemas['Groups']>(groupsPath, signal).then((g) => g.groups)

export const fetchDevice = (id: string, signal: AbortSignal | null = null) => answerAt<Device>(devicePath(id), signal)

const list = (ids: readonly string[]) => ids.map(listed).join(',')

/** The path of the markers of devices of some groups, in a box at a zoom. */
export function markersPath(groups: readonly string[], box: Box, zoom: number): string {
  const query = new URLSearchParams({ groups: list(groups), bbox: bboxOf(box).join(','), zoom: String(zoom) })
  return `/api/devices/markers?${query.toString()}`
}

/** Fetches the markers of devices of some groups, in a box at a zoom. */
export async function fetchDeviceMarkers(
  groups: readonly Group[],
  box: Box,
  zoom: number,
  signal: AbortSignal,
): Promise<Marker[]> {
  if (groups.length === 0) return []
  const ids = groups.map((g) => g.id)
  const found = await answerAt<Schemas['DeviceMarkers']>(markersPath(ids, box, zoom), signal)
  const titles = new Map(groups.map((g) => [g.id, g.title || g.id]))
  const once = keysOnce()
  return found.features.map((f) => markerOf(f, once(keyOf(f.properties.kind, f.id)), titles))
}

/** The key of the marker of a device in its source. */
export const keyOf = (kind: string, id: string) => `${kind} ${id}`

function markerOf(f: Schemas['DeviceMarker'], key: string, titles: ReadonlyMap<string, string>): Marker {
  const [lon = 0, lat = 0] = f.geometry.coordinates
  const p = f.properties
  const groups = Object.entries(p.tally ?? {})
  return {
    key,
    kind: p.kind,
    at: { lon, lat },
    ...(p.group !== undefined && { layer: p.group }),
    id: p.device ?? '',
    name: p.name ?? '',
    category: p.state ?? '',
    drawing: p.colour ? { colour: p.colour } : {},
    count: p.count ?? 1,
    tally: groups.flatMap(([group, states]) =>
      ['moving', 'still', 'silent'].flatMap((s) => (states[s] ? [[s, states[s], group] as const] : [])),
    ),
    parts: groups.map(([group, states]) => [
      titles.get(group) ?? group,
      Object.values(states).reduce((a, b) => a + b, 0),
    ]),
    opensAt: p.opens_at ?? null,
    extent: boxOf(p.extent),
    stacked: (p.devices ?? []).map((d) => ({ id: d.device, layer: d.group, name: d.name ?? '', category: d.state })),
    ...(p.kind === 'cluster' && { counts: 'devices' }),
    ...(p.timestamp !== undefined && {
      device: {
        time: Date.parse(p.timestamp),
        state: p.state ?? '',
        ...(p.heading !== undefined && { heading: p.heading }),
        ...(p.speed !== undefined && { speed: p.speed }),
        ...(p.accuracy !== undefined && { accuracy: p.accuracy }),
        ...(p.step !== undefined && { hopped: true }),
      },
    }),
  }
}

/** What a list of devices is about. */
export interface Listing {
  groups: readonly string[] // ids; none for all
  states: readonly string[] // none for all
  text: string
  filter: string // a condition; none for all
  sort: string
  offset: number
  limit: number
}

export function listPath(l: Listing): string {
  const query = new URLSearchParams({ limit: String(l.limit) })
  if (l.groups.length > 0) query.set('groups', list(l.groups))
  if (l.states.length > 0) query.set('state', l.states.join(','))
  if (l.text) query.set('q', l.text)
  if (l.filter) query.set('filter', l.filter)
  if (l.sort) query.set('sortby', l.sort)
  if (l.offset > 0) query.set('offset', String(l.offset))
  return `/api/devices?${query.toString()}`
}

export const fetchDevices = (l: Listing, signal: AbortSignal | null = null) =>
  answerAt<Schemas['Devices']>(listPath(l), signal)

/** Fetches the newest part of a track. */
export function fetchTrack(
  device: string,
  ask: { since?: string; datetime?: string; zoom?: number; limit?: number },
  signal: AbortSignal | null = null,
): Promise<Track> {
  const query = { newest: true, ...ask }
  return answer(service.GET('/api/devices/{device}/track', { params: { path: { device }, query }, signal })).then(
    (t) => t as Track,
  )
}

/** The address of the file of a track. */
export const trackFile = (device: string, format: string, since: string) =>
  `${devicePath(device)}/track?f=${format}&since=${since}`

export const fetchPast = (time: Date, groups: readonly string[], signal: AbortSignal) =>
  answer(
    service.GET('/api/devices/at', {
      params: { query: { time: time.toISOString(), ...(groups.length > 0 && { groups: list(groups) }) } },
      signal,
    }),
  )

export const changeDevice = (device: string, body: Schemas['DeviceUpdate']) =>
  answer(service.PATCH('/api/devices/{device}', { params: { path: { device } }, body }))

/** Reports where a device is, as the browser has it. */
export function reportPosition(device: string, p: GeolocationPosition): Promise<unknown> {
  const { latitude, longitude, accuracy, altitude, altitudeAccuracy, heading, speed } = p.coords
  const known = Object.entries({ accuracy, altitude, altitudeAccuracy, heading, speed }).filter(
    ([, v]) => v !== null && !Number.isNaN(v),
  )
  const body = { device, latitude, longitude, timestamp: p.timestamp, ...Object.fromEntries(known) }
  return answer(service.POST('/api/positions', { body }))
}

/** Makes a link by which a device can be seen for some hours. */
export const shareDevice = (device: string, hours: number) =>
  answer(
    service.POST('/api/devices/{device}/shares', {
      params: { path: { device } },
      body: { until: new Date(Date.now() + hours * 3_600_000).toISOString() },
    }),
  )
