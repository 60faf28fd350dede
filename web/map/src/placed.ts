import type { Look, Looks } from './looks'
import { type Marker, sameMarker } from './marker'
import { type MapPoint, project } from './projection'

/** A marker on the map. Its key, its place on the map and its look are made once. */
export interface Placed extends MapPoint {
  readonly key: string // unique on the map
  readonly source: string
  readonly marker: Marker
  readonly look: Look
  readonly looks: Looks
}

/** Places a marker, or returns what is there if it is the same. */
export function place(source: string, marker: Marker, looks: Looks, before: Placed | undefined): Placed {
  const look = looks.of(marker.category, marker.drawing)
  if (before && before.look === look && before.looks === looks && sameMarker(before.marker, marker)) return before
  const { x, y } = project(marker.at)
  return { key: `${source}/${marker.key}`, source, marker, x, y, look, looks }
}
