import type { Geometry, Position as Coordinates } from 'geojson'
import type { Position } from '../projection'
import { areaOf, circle, distance, inside } from './measure'

/** What is being drawn. A circle is an area whose corners follow from its middle and its edge. */
export type SketchKind = 'path' | 'area' | 'circle'

/** A corner, with the elevation in metres that it came with, if it did. */
export interface Spot extends Position {
  elevation?: number
}

/** What is drawn, as its corners: of a circle the middle and a spot on its edge. */
export interface SketchShape {
  kind: SketchKind
  lines: readonly (readonly Spot[])[] // paths, or rings of areas without the last corner, which is the first
}

const least: Record<SketchKind, number> = { path: 2, area: 3, circle: 2 }

/** A position to about a centimetre. */
export const rounded = (p: Position): Position => ({ lon: Number(p.lon.toFixed(7)), lat: Number(p.lat.toFixed(7)) })

/** Whether a line has the corners that it needs. */
export const complete = (kind: SketchKind, line: readonly Position[]) => line.length >= least[kind]

const position = ([lon = 0, lat = 0, elevation]: Coordinates): Spot =>
  elevation === undefined ? { lon, lat } : { lon, lat, elevation }
const coordinates = ({ lon, lat, elevation }: Spot): Coordinates =>
  elevation === undefined ? [lon, lat] : [lon, lat, elevation]
const open = (ring: readonly Coordinates[]) => ring.slice(0, -1).map(position)

/** The shape of a geometry, or null if it is no path or area. */
export function shapeOf(g: Geometry): SketchShape | null {
  switch (g.type) {
    case 'LineString':
      return { kind: 'path', lines: [g.coordinates.map(position)] }
    case 'MultiLineString':
      return { kind: 'path', lines: g.coordinates.map((l) => l.map(position)) }
    case 'Polygon':
      return { kind: 'area', lines: g.coordinates.map(open) }
    case 'MultiPolygon':
      return { kind: 'area', lines: g.coordinates.flatMap((rings) => rings.map(open)) }
  }
  return null
}

/** The rings of a shape: those of a circle as it is drawn. */
export function ringsOf({ kind, lines }: SketchShape): readonly (readonly Spot[])[] {
  if (kind !== 'circle') return lines
  return lines.flatMap(([middle, edge]) =>
    middle && edge ? [circle(middle, radiusOf([middle, edge])).map(rounded)] : [],
  )
}

/** The radius of a circle in metres. */
export function radiusOf([middle, edge]: readonly Position[]): number {
  return middle && edge ? distance(middle, edge) : 0
}

/** The area of a shape in square metres, without its holes. */
export function squareMetres(shape: SketchShape): number {
  const rings = shape.kind === 'path' ? [] : ringsOf(shape).filter((r) => r.length > 2)
  return rings.reduce((sum, ring, i) => {
    const around = rings.filter((other, j) => j !== i && ring[0] && inside(other, ring[0])).length
    return sum + (around % 2 === 0 ? 1 : -1) * areaOf(ring)
  }, 0)
}

/** The geometry of a shape, or null as long as a line has too few corners. A ring within another is a hole in it. */
export function geometryOf(shape: SketchShape): Geometry | null {
  const { kind, lines } = shape
  if (lines.length === 0 || !lines.every((l) => complete(kind, l))) return null
  if (kind === 'path') {
    const all = lines.map((l) => l.map(coordinates))
    return all.length === 1 && all[0]
      ? { type: 'LineString', coordinates: all[0] }
      : { type: 'MultiLineString', coordinates: all }
  }
  const rings = ringsOf(shape)
  const areas = new Map<number, Coordinates[][]>()
  const around = rings.map((ring, i) => rings.findIndex((other, j) => j !== i && ring[0] && inside(other, ring[0])))
  rings.forEach((ring, i) => around[i] === -1 && areas.set(i, [closed(ring, false)]))
  rings.forEach((ring, i) => {
    const outer = around[i] ?? -1
    if (outer === -1) return
    const area = areas.get(outer)
    if (area) area.push(closed(ring, true))
    else areas.set(i, [closed(ring, false)]) // an island in a hole
  })
  const all = [...areas.values()]
  return all.length === 1 && all[0]
    ? { type: 'Polygon', coordinates: all[0] }
    : { type: 'MultiPolygon', coordinates: all }
}

/** A ring with its last corner, counterclockwise, or clockwise for a hole (RFC 7946, section 3.1.6). */
function closed(ring: readonly Spot[], hole: boolean): Coordinates[] {
  const twice = ring.reduce((sum, a, i) => {
    const b = ring[(i + 1) % ring.length] ?? a
    return sum + (b.lon - a.lon) * (b.lat + a.lat)
  }, 0)
  const clockwise = twice > 0
  const way = clockwise === hole ? ring : [...ring.slice(0, 1), ...ring.slice(1).reverse()]
  const all = way.map(coordinates)
  return [...all, ...all.slice(0, 1)]
}
