// Positions on the Earth and on the square Web Mercator map.

/** A position in degrees. */
export interface Position {
  lon: number
  lat: number
}

/** A rectangle in degrees; one whose west is greater than its east crosses the antimeridian. */
export interface Box {
  west: number
  south: number
  east: number
  north: number
}

/** A position on the map square: x from 0 at longitude -180 to 1 at 180, y from 0 in the north to 1 in the south. */
export interface MapPoint {
  x: number
  y: number
}

/** The width of the world in CSS pixels at zoom 0. */
export const tilePixels = 256

/** The latitude in degrees at which the square map ends, atan(sinh(pi)) (EPSG:3857). */
export const maxLat = 85.0511287798066

export function project(p: Position): MapPoint {
  const lat = Math.max(-maxLat, Math.min(maxLat, p.lat)) * (Math.PI / 180)
  return { x: (p.lon + 180) / 360, y: 0.5 - Math.atanh(Math.sin(lat)) / (2 * Math.PI) }
}

export function unproject(m: MapPoint): Position {
  const lat = Math.atan(Math.sinh(Math.PI * (1 - 2 * m.y))) * (180 / Math.PI)
  return { lon: wrap(m.x) * 360 - 180, lat }
}

/** The smallest box that holds all of some boxes, across the antimeridian if that is smaller; null for none. */
export function around(boxes: readonly Box[]): Box | null {
  const stretches = boxes
    .flatMap((b) =>
      b.west > b.east
        ? [
            { west: b.west, east: 180 },
            { west: -180, east: b.east },
          ]
        : [{ west: b.west, east: b.east }],
    )
    .sort((a, b) => a.west - b.west)
  const [first] = stretches
  if (!first) return null
  let { west, east } = first
  let widest = { size: 0, from: 0, to: 0 } // the gap that is not across the antimeridian
  for (const s of stretches) {
    if (s.west - east > widest.size) widest = { size: s.west - east, from: east, to: s.west }
    east = Math.max(east, s.east)
  }
  if (widest.size > west + 360 - east) [west, east] = [widest.to, widest.from]
  return { west, south: Math.min(...boxes.map((b) => b.south)), east, north: Math.max(...boxes.map((b) => b.north)) }
}

/** Brings a map x into 0 <= x < 1 by whole turns round the world. */
export function wrap(x: number): number {
  return x - Math.floor(x)
}

/** The difference b - a of two map x, the short way round the world. */
export function shortWay(a: number, b: number): number {
  const d = b - a
  return d - Math.round(d)
}

/** A line whose steps go the short way round the world: its x may be beyond 0 to 1. */
export function unwrapped(line: readonly MapPoint[]): MapPoint[] {
  const out: MapPoint[] = []
  for (const p of line) {
    const last = out.at(-1)
    out.push(last ? { x: last.x + shortWay(last.x, p.x), y: p.y } : p)
  }
  return out
}
