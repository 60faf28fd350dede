import type { Box, View } from '@idlebeacon/map'
import type { LocationQuery, LocationQueryRaw } from 'vue-router'
import { boxOf, bboxOf, type Chosen, everything } from '../api/selection'

/** What the page's address says about the map, so that a reload or a shared link shows the same. */
export interface Address {
  view: View | null
  show: Box | null // a box to show, in place of a view
  off: string[] // ids of collections that are switched off
  chosen: Map<string, Chosen> // by collection, of those where not everything is
}

export function readAddress(query: LocationQuery): Address {
  const lat = number(query, 'lat', 90)
  const lon = number(query, 'lon', 180)
  const zoom = number(query, 'zoom', 24)
  const show = texts(query.show)[0]?.split(',').map(Number)
  return {
    view: lat !== null && lon !== null && zoom !== null && zoom >= 0 ? { centre: { lat, lon }, zoom } : null,
    show: show?.every(Number.isFinite) ? boxOf(show) : null,
    off: texts(query.off)[0]?.split(',').filter(Boolean) ?? [],
    chosen: readChosen(query),
  }
}

const texts = (value: LocationQuery[string] | undefined): string[] => [value ?? []].flat().filter((v) => v !== null)

/** A number whose absolute value is at most most, or null. */
function number(query: LocationQuery, name: string, most: number): number | null {
  const [text] = texts(query[name])
  const v = text ? Number(text) : NaN
  return Math.abs(v) <= most ? v : null
}

// What is chosen of a collection stands under its id: hidden.ID for each category switched off, name.ID and filter.ID.
function readChosen(query: LocationQuery): Map<string, Chosen> {
  const chosen = new Map<string, Chosen>()
  for (const [key, value] of Object.entries(query)) {
    const [what, id] = [key.slice(0, key.indexOf('.')), key.slice(key.indexOf('.') + 1)]
    const all = texts(value)
    const old = chosen.get(id) ?? everything
    if (what === 'hidden') chosen.set(id, { ...old, hidden: all })
    else if (what === 'name' || what === 'filter') chosen.set(id, { ...old, [what]: all[0] ?? '' })
  }
  return chosen
}

/** Writes a view the way the address and the read-out have it. Six decimals are about a decimetre. */
export function viewParts(v: View): { lat: string; lon: string; zoom: string } {
  const decimals = Math.min(6, Math.max(2, Math.ceil(v.zoom / 3)))
  return { lat: v.centre.lat.toFixed(decimals), lon: v.centre.lon.toFixed(decimals), zoom: v.zoom.toFixed(2) }
}

export function writeAddress(
  view: View,
  off: readonly string[],
  chosen: ReadonlyMap<string, Chosen>,
): LocationQueryRaw {
  const query: LocationQueryRaw = { ...viewParts(view) }
  if (off.length > 0) query.off = off.join(',')
  for (const [id, c] of chosen) {
    if (c.hidden.length > 0) query[`hidden.${id}`] = [...c.hidden]
    if (c.name) query[`name.${id}`] = c.name
    if (c.filter) query[`filter.${id}`] = c.filter
  }
  return query
}

/** The address of the map that shows a box. */
export const showing = (box: Box) => ({ name: 'map', query: { show: bboxOf(box).join(',') } })
