import type { Geometry, Position as Coordinates } from 'geojson'
import type { Position } from '../projection'
import { areaOf, circle, distance, inside, towards } from './measure'

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

/** A circle of so many metres around a position. */
export function circleAround(middle: Position, metres: number): SketchShape {
  return { kind: 'circle', lines: [[middle, rounded(towards(middle, metres, 90))]] }
}

/** The radius of a circle in metres. */
export function radiusOf([middle, edge]: readonly Position[]): number {
  return middle && edge ? distance(middle, edge) : 0
}

/** The area of a shape in square metres, without its holes. */
export function squareMetres(shape: SketchShape): number {
  const rings = shape.kind === 'path' ? [] : ringsOf(shape).filter((r) => r.length > 2)
  const around = ringsAround(rings)
  return rings.reduce((sum, ring, i) => sum + (isHole(around[i]) ? -1 : 1) * areaOf(ring), 0)
}

/** Of each ring, which others it is inside. */
function ringsAround(rings: readonly (readonly Spot[])[]): number[][] {
  return rings.map((ring, i) => rings.flatMap((other, j) => (j !== i && ringInside(other, ring) ? [j] : [])))
}

/** What is inside one ring is a hole, what is inside two an island in the hole, and so on. */
const isHole = (around: readonly number[] | undefined) => (around?.length ?? 0) % 2 === 1

/**
 * Whether a ring is inside another. Of neighbours, the corners that they share say nothing; of the rest, most decide,
 * as some may lie on the edge.
 */
function ringInside(outer: readonly Spot[], ring: readonly Spot[]): boolean {
  const corner = (p: Position) => `${p.lon} ${p.lat}`
  const shared = new Set(outer.map(corner))
  const own = ring.filter((p) => !shared.has(corner(p)))
  const looked = own.length > 0 ? own : ring.map((a, i) => middleOf(a, ring[(i + 1) % ring.length] ?? a))
  return looked.filter((p) => inside(outer, p)).length * 2 > looked.length
}

function middleOf(a: Position, b: Position): Position {
  const east = ((b.lon - a.lon + 540) % 360) - 180
  return { lon: ((a.lon + east / 2 + 540) % 360) - 180, lat: (a.lat + b.lat) / 2 }
}

/** The geometry of a shape, or null as long as a line has too few corners. */
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
  const around = ringsAround(rings)
  rings.forEach((ring, i) => !isHole(around[i]) && areas.set(i, [closed(ring, false)]))
  rings.forEach((ring, i) => {
    if (!isHole(around[i])) return
    const deepest = (around[i]?.length ?? 0) - 1 // of those around it, the one that is inside the most
    const outer = around[i]?.find((j) => around[j]?.length === deepest)
    const area = outer === undefined ? undefined : areas.get(outer)
    if (area) area.push(closed(ring, true))
    else areas.set(i, [closed(ring, false)]) // rings that cross each other
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
