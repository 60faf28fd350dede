import type { Geometry, Position as Coordinates } from 'geojson'
import { type Appearance, type Drawing, type Look, type Looks, looksIn } from './looks'
import { type MapPoint, type Position, project, shortWay, unproject, wrap } from './projection'
import type { Placed } from './placed'

/** An area or path, as much of it as a view shows. */
export interface Shape {
  id: string
  layer?: string // of which of its source's layers it is
  name: string
  category: string
  drawing: Drawing
  geometry: Geometry
}

/** A line of positions on the map: x, y, x, y and so on. */
export type Line = Float64Array

/** A shape on the map. Its lines are projected once. */
export interface PlacedShape {
  readonly key: string // unique on the map
  readonly source: string
  readonly shape: Shape
  readonly look: Look
  readonly looks: Looks // of its layer
  readonly drawn: Appearance // of its source
  readonly areas: readonly (readonly Line[])[] // rings of each area
  readonly lines: readonly Line[]
  readonly dots: readonly MapPoint[]
  readonly middle: MapPoint
}

/** The key of a shape in its source. */
export function shapeKey({ layer, id }: Shape): string {
  return layer === undefined ? `shape ${id}` : `shape ${layer}/${id}`
}

export function placeShape(drawn: Appearance, shape: Shape): PlacedShape {
  const looks = looksIn(drawn, shape.layer)
  const areas: Line[][] = []
  const lines: Line[] = []
  const dots: MapPoint[] = []
  add(shape.geometry)
  return {
    key: `${drawn.id}/${shapeKey(shape)}`,
    source: drawn.id,
    shape,
    looks,
    drawn,
    look: looks.of(shape.category, shape.drawing),
    areas,
    lines,
    dots,
    middle: middleOf(areas, lines, dots),
  }

  function add(g: Geometry): void {
    const point = ([lon = 0, lat = 0]: Coordinates) => project({ lon, lat })
    switch (g.type) {
      case 'Point':
        dots.push(point(g.coordinates))
        break
      case 'MultiPoint':
        dots.push(...g.coordinates.map(point))
        break
      case 'LineString':
        lines.push(lineOf(g.coordinates))
        break
      case 'MultiLineString':
        lines.push(...g.coordinates.map(lineOf))
        break
      case 'Polygon':
        areas.push(g.coordinates.map(lineOf))
        break
      case 'MultiPolygon':
        areas.push(...g.coordinates.map((area) => area.map(lineOf)))
        break
      case 'GeometryCollection':
        g.geometries.forEach(add)
    }
  }
}

function lineOf(all: readonly Coordinates[]): Line {
  return flat(all.map(([lon = 0, lat = 0]) => project({ lon, lat })))
}

/** Points as a line. */
export function flat(points: readonly MapPoint[]): Line {
  const line = new Float64Array(points.length * 2)
  points.forEach((p, i) => {
    line[2 * i] = p.x
    line[2 * i + 1] = p.y
  })
  return line
}

/** The spot that stands for a shape: the middle of its extent, or of a path. */
function middleOf(areas: readonly Line[][], lines: readonly Line[], dots: readonly MapPoint[]): MapPoint {
  const outlines = [...areas.flatMap((rings) => rings.slice(0, 1)), ...lines, flat(dots)].filter((l) => l.length > 0)
  const first = outlines[0]
  if (!first) return { x: 0, y: 0 }
  const [path] = lines
  if (areas.length === 0 && path && path.length > 0) {
    const half = 2 * Math.floor(path.length / 4)
    return { x: path[half] ?? 0, y: path[half + 1] ?? 0 }
  }
  // What was cut at the antimeridian lies on both sides of it, so each is taken as seen from the first.
  const start = first[0] ?? 0
  let [west, east, north, south] = [Infinity, -Infinity, Infinity, -Infinity]
  for (const line of outlines) {
    for (let i = 0; i < line.length; i += 2) {
      const x = start + shortWay(start, line[i] ?? 0)
      const y = line[i + 1] ?? 0
      west = Math.min(west, x)
      east = Math.max(east, x)
      north = Math.min(north, y)
      south = Math.max(south, y)
    }
  }
  return { x: wrap((west + east) / 2), y: (north + south) / 2 }
}

/** A shape as what is picked at a position: what a popup shows does not depend on where it is. */
export function markerOf(s: PlacedShape, at: Position = unproject(s.middle)): Placed {
  const { id, name, category, drawing } = s.shape
  return {
    key: s.key,
    source: s.source,
    marker: {
      key: shapeKey(s.shape),
      ...(s.shape.layer !== undefined && { layer: s.shape.layer }),
      kind: 'shape',
      at,
      id,
      name,
      category,
      drawing,
      count: 1,
      tally: [],
      opensAt: null,
      extent: null,
      stacked: [],
    },
    ...project(at),
    look: s.look,
    looks: s.looks,
    drawn: s.drawn,
  }
}

/** Whether a shape is at a spot of the map, within near widths of the world from its lines and dots. */
export function isAt(s: PlacedShape, p: MapPoint, near: number): boolean {
  if (s.dots.some((d) => Math.hypot(shortWay(d.x, p.x), d.y - p.y) <= near)) return true
  return s.lines.some((line) => touches(line, p, near)) || s.areas.some((rings) => holds(rings, p))
}

function touches(line: Line, p: MapPoint, near: number): boolean {
  for (let i = 2; i < line.length; i += 2) {
    if (distance(line[i - 2] ?? 0, line[i - 1] ?? 0, line[i] ?? 0, line[i + 1] ?? 0, p) <= near) return true
  }
  return false
}

/** Whether p is inside an area, by the even-odd rule. */
function holds(rings: readonly Line[], p: MapPoint): boolean {
  let inside = false
  for (const ring of rings) {
    for (let i = 2; i < ring.length; i += 2) {
      const [ax, ay, bx, by] = [ring[i - 2] ?? 0, ring[i - 1] ?? 0, ring[i] ?? 0, ring[i + 1] ?? 0]
      const turn = Math.round(p.x - ax) // p beside a, if the antimeridian is between them
      if (ay > p.y !== by > p.y && p.x - turn < ((bx - ax) * (p.y - ay)) / (by - ay) + ax) inside = !inside
    }
  }
  return inside
}

/** The distance of p from the line from a to b. */
function distance(ax: number, ay: number, bx: number, by: number, p: MapPoint): number {
  const [dx, dy] = [bx - ax, by - ay]
  const [px, py] = [shortWay(ax, p.x), p.y - ay]
  const length = dx * dx + dy * dy
  const f = length > 0 ? Math.max(0, Math.min(1, (px * dx + py * dy) / length)) : 0
  return Math.hypot(px - f * dx, py - f * dy)
}

/** The widest stretch inside an area at a share of its height from its top, or null. */
export function widestStretch(rings: readonly Line[], share: number): { at: MapPoint; width: number } | null {
  const outer = rings[0] ?? new Float64Array()
  let [top, bottom] = [Infinity, -Infinity]
  for (let i = 1; i < outer.length; i += 2) {
    top = Math.min(top, outer[i] ?? 0)
    bottom = Math.max(bottom, outer[i] ?? 0)
  }
  const y = top + (bottom - top) * share
  const crossings: number[] = []
  for (const ring of rings) {
    for (let i = 2; i < ring.length; i += 2) {
      const [ax, ay, bx, by] = [ring[i - 2] ?? 0, ring[i - 1] ?? 0, ring[i] ?? 0, ring[i + 1] ?? 0]
      if (ay > y !== by > y) crossings.push(ax + ((y - ay) / (by - ay)) * (bx - ax))
    }
  }
  crossings.sort((a, b) => a - b)
  let found: { at: MapPoint; width: number } | null = null
  for (let i = 0; i + 1 < crossings.length; i += 2) {
    const [west = 0, east = 0] = crossings.slice(i, i + 2)
    if (east - west > (found?.width ?? 0)) found = { at: { x: (west + east) / 2, y }, width: east - west }
  }
  return found
}

const earthRadius = 6_371_008.8 // metres, the mean one (IUGG)

/** The circle of a radius in metres around a position, as a ring of the map. */
export function circleAround(at: Position, metres: number): Line {
  const corners = 72
  const middle = project(at)
  const [lat, angle] = [(at.lat * Math.PI) / 180, metres / earthRadius]
  return flat(
    Array.from({ length: corners + 1 }, (_, i) => {
      const bearing = (2 * Math.PI * i) / corners
      // The position at a distance and bearing on the sphere.
      const sine = Math.sin(lat) * Math.cos(angle) + Math.cos(lat) * Math.sin(angle) * Math.cos(bearing)
      const turn = Math.atan2(
        Math.sin(bearing) * Math.sin(angle) * Math.cos(lat),
        Math.cos(angle) - Math.sin(lat) * sine,
      )
      const spot = project({ lon: at.lon + (turn * 180) / Math.PI, lat: (Math.asin(sine) * 180) / Math.PI })
      return { x: middle.x + shortWay(middle.x, spot.x), y: spot.y }
    }),
  )
}
