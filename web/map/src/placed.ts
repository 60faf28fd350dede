import { type Appearance, type Look, type Looks, looksIn } from './looks'
import { type Marker, sameMarker } from './marker'
import { type MapPoint, project } from './projection'

/** A marker on the map. Its key, its place on the map and its look are made once. */
export interface Placed extends MapPoint {
  readonly key: string // unique on the map
  readonly source: string
  readonly marker: Marker
  readonly look: Look
  readonly looks: Looks // of its layer
  readonly drawn: Appearance // of its source
}

/** Places a marker, or returns what is there if it is the same. */
export function place(drawn: Appearance, marker: Marker, before: Placed | undefined): Placed {
  const looks = looksIn(drawn, marker.layer)
  const look = looks.of(marker.category, marker.drawing)
  if (before && before.look === look && before.drawn === drawn && sameMarker(before.marker, marker)) return before
  const { x, y } = project(marker.at)
  return { key: `${drawn.id}/${marker.key}`, source: drawn.id, marker, x, y, look, looks, drawn }
}
