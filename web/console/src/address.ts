import type { View } from '@idlebeacon/map'
import { type Chosen, everything } from './api/client'

/** What the page's address says about the map, so that a reload or a shared link shows the same. */
export interface Address {
  view: View | null
  off: string[] // ids of collections that are switched off
  chosen: Map<string, Chosen> // by collection, of those where not everything is
}

export function readAddress(search = window.location.search): Address {
  const q = new URLSearchParams(search)
  const number = (name: string, least: number, most: number) => {
    const text = q.get(name)
    const v = text ? Number(text) : NaN
    return v >= least && v <= most ? v : null
  }
  const lat = number('lat', -90, 90)
  const lon = number('lon', -180, 180)
  const zoom = number('zoom', 0, 24)
  return {
    view: lat !== null && lon !== null && zoom !== null ? { centre: { lat, lon }, zoom } : null,
    off: q.get('off')?.split(',').filter(Boolean) ?? [],
    chosen: readChosen(q),
  }
}

// What is chosen of a collection stands under its id: hidden.ID for each category switched off, name.ID and filter.ID.
function readChosen(q: URLSearchParams): Map<string, Chosen> {
  const chosen = new Map<string, Chosen>()
  for (const [key, value] of q) {
    const [what, id] = [key.slice(0, key.indexOf('.')), key.slice(key.indexOf('.') + 1)]
    const old = chosen.get(id) ?? everything
    if (what === 'hidden') chosen.set(id, { ...old, hidden: [...old.hidden, value] })
    else if (what === 'name' || what === 'filter') chosen.set(id, { ...old, [what]: value })
  }
  return chosen
}

/** Writes a view the way the address and the read-out have it. Six decimals are about a decimetre. */
export function viewParts(v: View): { lat: string; lon: string; zoom: string } {
  const decimals = Math.min(6, Math.max(2, Math.ceil(v.zoom / 3)))
  return { lat: v.centre.lat.toFixed(decimals), lon: v.centre.lon.toFixed(decimals), zoom: v.zoom.toFixed(2) }
}

export function writeAddress(view: View, off: readonly string[], chosen: ReadonlyMap<string, Chosen>): void {
  const q = new URLSearchParams(viewParts(view))
  if (off.length > 0) q.set('off', off.join(','))
  for (const [id, c] of chosen) {
    for (const category of c.hidden) q.append(`hidden.${id}`, category)
    if (c.name) q.set(`name.${id}`, c.name)
    if (c.filter) q.set(`filter.${id}`, c.filter)
  }
  if (window.location.pathname !== '/') return // another page is shown
  window.history.replaceState(window.history.state, '', `?${q.toString().replaceAll('%2C', ',')}`)
}
