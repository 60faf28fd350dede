import { type MapPoint, type Position, project, unwrapped } from '../projection'

/** The mean radius of the Earth in metres (IUGG). */
const radius = 6_371_008.8
const rad = (degrees: number) => (degrees * Math.PI) / 180

/** The great-circle distance of two positions in metres (haversine formula). */
export function distance(a: Position, b: Position): number {
  const h =
    Math.sin(rad(b.lat - a.lat) / 2) ** 2 +
    Math.cos(rad(a.lat)) * Math.cos(rad(b.lat)) * Math.sin(rad(b.lon - a.lon) / 2) ** 2
  return 2 * radius * Math.asin(Math.min(1, Math.sqrt(h)))
}

/** The length of a line in metres. */
export function lengthOf(line: readonly Position[]): number {
  return line.reduce((sum, p, i) => sum + (i > 0 ? distance(line[i - 1] ?? p, p) : 0), 0)
}

/**
 * The area within a ring in square metres, on the sphere (Chamberlain and Duquette, Some Algorithms for Polygons on a
 * Sphere, JPL 07-03). It is exact for edges of constant direction in longitude and sine of latitude, and close for the
 * short edges that people draw.
 */
export function areaOf(ring: readonly Position[]): number {
  let sum = 0
  ring.forEach((a, i) => {
    const b = ring[(i + 1) % ring.length] ?? a
    const east = ((b.lon - a.lon + 540) % 360) - 180
    sum += rad(east) * (2 + Math.sin(rad(a.lat)) + Math.sin(rad(b.lat)))
  })
  return (Math.abs(sum) * radius * radius) / 2
}

/** The position at a distance in metres from another, in a direction clockwise from north in degrees. */
export function towards(from: Position, metres: number, direction: number): Position {
  const [lat, d, by] = [rad(from.lat), metres / radius, rad(direction)]
  const to = Math.asin(Math.sin(lat) * Math.cos(d) + Math.cos(lat) * Math.sin(d) * Math.cos(by))
  const east = Math.atan2(Math.sin(by) * Math.sin(d) * Math.cos(lat), Math.cos(d) - Math.sin(lat) * Math.sin(to))
  const lon = from.lon + (east * 180) / Math.PI
  return { lon: ((lon + 540) % 360) - 180, lat: (to * 180) / Math.PI }
}

/** A circle as a ring. */
export function circle(centre: Position, metres: number, corners = 64): Position[] {
  return Array.from({ length: corners }, (_, i) => towards(centre, metres, (-360 * i) / corners))
}

/** A line to look at: closed if it is a ring. */
export interface Outline {
  points: readonly Position[]
  closed: boolean
}

/** Where lines of a shape cross themselves or each other, or null. Touching at a corner they share is no crossing. */
export function crossing(lines: readonly Outline[]): Position | null {
  const edges: { a: MapPoint; b: MapPoint; from: number; at: Position; line: number; i: number; last: number }[] = []
  lines.forEach(({ points, closed }, line) => {
    const way = unwrapped([...points, ...(closed ? points.slice(0, 1) : [])].map(project))
    way.forEach((b, i) => {
      const a = way[i - 1]
      const at = points[i - 1]
      if (a && at) edges.push({ a, b, from: Math.min(a.x, b.x), at, line, i, last: closed ? way.length - 1 : -1 })
    })
  })
  // From west to east, so that each is compared only with those that begin before it ends.
  edges.sort((e, f) => e.from - f.from)
  for (const [n, e] of edges.entries()) {
    const end = Math.max(e.a.x, e.b.x)
    for (let k = n + 1; k < edges.length; k++) {
      const f = edges[k]
      if (!f || f.from > end) break
      if (!follow(e, f) && !follow(f, e) && cross(e.a, e.b, f.a, f.b)) return f.at
    }
  }
  return null
}

/** Whether an edge begins where another ends. */
const follow = (e: { line: number; i: number }, f: { line: number; i: number; last: number }) =>
  e.line === f.line && (f.i === e.i + 1 || (f.i === 1 && e.i === f.last))

const side = (a: MapPoint, b: MapPoint, p: MapPoint) => Math.sign((b.x - a.x) * (p.y - a.y) - (b.y - a.y) * (p.x - a.x))

function cross(a: MapPoint, b: MapPoint, c: MapPoint, d: MapPoint): boolean {
  return side(a, b, c) * side(a, b, d) < 0 && side(c, d, a) * side(c, d, b) < 0
}

/** Whether a position is inside a ring. */
export function inside(ring: readonly Position[], p: Position): boolean {
  const [at, ...way] = unwrapped([p, ...ring].map(project))
  if (!at) return false
  let within = false
  way.forEach((a, i) => {
    const b = way[(i + 1) % way.length] ?? a
    if (a.y > at.y !== b.y > at.y && at.x < ((b.x - a.x) * (at.y - a.y)) / (b.y - a.y) + a.x) within = !within
  })
  return within
}
