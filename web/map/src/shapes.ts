import type { Geometry, Position } from 'geojson'
import type { Camera, ScreenPoint } from './camera'
import { type Drawing, type Look, type Looks, onDark } from './looks'
import { type AreaLabel, keyOf, type Paint, type PlacedMarker } from './markers'
import { type LonLat, type MapPoint, project, shortWay, unproject, wrap } from './projection'

/** An area or path, as much of it as a view shows. */
export interface Shape {
  id: string
  name: string
  category: string
  drawing: Drawing
  geometry: Geometry
}

/** A shape on the map: with its source, and where it is. */
export interface PlacedShape {
  source: string
  shape: Shape
  look: Look
  looks: Looks
  areas: MapPoint[][][] // rings of each area
  lines: MapPoint[][]
  dots: MapPoint[]
  middle: MapPoint
}

const usualFill = 0.16 // opacity
const usualWidth = 2.5 // of strokes, in CSS pixels
const dashes = { solid: [], dashed: [3, 2.2], dotted: [0.1, 2] } // of the width
const dotRadius = 4
const reach = 7 // CSS pixels from a line at which it is still hit

export function placeShape(source: string, shape: Shape, looks: Looks): PlacedShape {
  const placed: PlacedShape = {
    source,
    shape,
    looks,
    look: looks.of(shape.category, shape.drawing),
    areas: [],
    lines: [],
    dots: [],
    middle: { x: 0, y: 0 },
  }
  add(placed, shape.geometry)
  const points = [...placed.areas.flatMap((rings) => rings[0] ?? []), ...placed.lines.flat(), ...placed.dots]
  const [first] = points
  if (first) {
    // What was cut at the antimeridian lies on both sides of it, so each is taken as seen from the first.
    const spread = (pick: (p: MapPoint) => number) => {
      let [least, most] = [pick(first), pick(first)]
      for (const p of points) [least, most] = [Math.min(least, pick(p)), Math.max(most, pick(p))]
      return (least + most) / 2
    }
    placed.middle = { x: wrap(spread((p) => first.x + shortWay(first.x, p.x))), y: spread((p) => p.y) }
    const line = placed.lines[0]
    if (placed.areas.length === 0 && line) placed.middle = line[Math.floor(line.length / 2)] ?? first
  }
  return placed
}

function add(to: PlacedShape, g: Geometry): void {
  const points = (all: Position[]) => all.map(([lon = 0, lat = 0]) => project({ lon, lat }))
  switch (g.type) {
    case 'Point':
      to.dots.push(...points([g.coordinates]))
      break
    case 'MultiPoint':
      to.dots.push(...points(g.coordinates))
      break
    case 'LineString':
      to.lines.push(points(g.coordinates))
      break
    case 'MultiLineString':
      to.lines.push(...g.coordinates.map(points))
      break
    case 'Polygon':
      to.areas.push(g.coordinates.map(points))
      break
    case 'MultiPolygon':
      to.areas.push(...g.coordinates.map((area) => area.map(points)))
      break
    case 'GeometryCollection':
      for (const member of g.geometries) add(to, member)
  }
}

/** The key of a shape that is unique on the map. */
export const shapeKey = (s: PlacedShape) => `${s.source}/shape ${s.shape.id}`

/** A shape as what is picked at a position: what a popup shows does not depend on where it is. */
export function asMarker(s: PlacedShape, at: LonLat = unproject(s.middle)): PlacedMarker {
  const { id, name, category, drawing } = s.shape
  return {
    source: s.source,
    marker: {
      key: `shape ${id}`,
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
    map: project(at),
    look: s.look,
    looks: s.looks,
  }
}

/** Where the names of areas may be written on the screen: across them, where they are widest. */
export function areaLabels(camera: Camera, shapes: readonly PlacedShape[]): AreaLabel[] {
  const least = 30 // CSS pixels
  const labels: AreaLabel[] = []
  for (const s of shapes) {
    if (!s.looks.style.labels || !s.shape.name) continue
    const spots = s.areas
      .flatMap((rings) => [0.5, 0.75, 0.25].flatMap((share) => widest(rings, share) ?? []))
      .map(({ at, width }) => ({ at: camera.toScreen(at), room: width * camera.scale - 8 }))
      .filter(({ at, room }) => room > least && at.x > 0 && at.x < camera.width && at.y > 0 && at.y < camera.height)
    if (spots.length > 0) labels.push({ name: s.shape.name, spots })
  }
  return labels
}

/** The widest stretch inside an area at a share of its height. */
function widest(rings: readonly MapPoint[][], share: number): { at: MapPoint; width: number } | null {
  const outer = rings[0] ?? []
  let [top, bottom] = [Infinity, -Infinity]
  for (const p of outer) [top, bottom] = [Math.min(top, p.y), Math.max(bottom, p.y)]
  const y = top + (bottom - top) * share
  const crossings = rings
    .flatMap((ring) =>
      ring.flatMap((b, i) => {
        const a = ring[i - 1]
        return a && a.y > y !== b.y > y ? [a.x + ((y - a.y) / (b.y - a.y)) * (b.x - a.x)] : []
      }),
    )
    .sort((a, b) => a - b)
  let found: { at: MapPoint; width: number } | null = null
  for (let i = 0; i + 1 < crossings.length; i += 2) {
    const [west = 0, east = 0] = crossings.slice(i, i + 2)
    if (east - west > (found?.width ?? 0)) found = { at: { x: (west + east) / 2, y }, width: east - west }
  }
  return found
}

/** Draws shapes, the first the lowest. */
export function drawShapes(
  context: CanvasRenderingContext2D,
  camera: Camera,
  shapes: readonly PlacedShape[],
  paint: Paint,
  raised: ReadonlySet<string>,
): void {
  context.lineJoin = 'round'
  context.lineCap = 'round'
  for (const s of shapes) {
    const up = raised.has(shapeKey(s))
    const areas = s.areas.flat()
    if (areas.length + s.lines.length > 0) drawOutlines(context, camera, s.look, areas, s.lines, paint, up)
    for (const dot of s.dots) {
      const at = camera.toScreen(dot)
      context.beginPath()
      context.arc(at.x, at.y, dotRadius, 0, 2 * Math.PI)
      context.fillStyle = paint.dark ? onDark(s.look.colour) : s.look.colour
      context.fill()
      context.strokeStyle = up ? paint.focus : paint.paper
      context.lineWidth = up ? 3 : 1.5
      context.stroke()
    }
  }
  context.lineCap = 'butt'
}

/** Draws the circles of places that have one, true to scale, all below the markers. */
export function drawCircles(
  context: CanvasRenderingContext2D,
  camera: Camera,
  markers: readonly PlacedMarker[],
  paint: Paint,
  raised: ReadonlySet<string>,
): void {
  context.lineJoin = 'round'
  for (const p of markers) {
    const metres = p.looks.style.circle?.metres ?? p.marker.drawing.radius
    if (!metres || p.marker.count > 1 || p.marker.kind !== 'place') continue
    const ring = circleAround(p.marker.at, metres)
    const top = ring[0]
    if (!top || Math.abs(top.y - p.map.y) * camera.scale < leastCircle) continue
    drawOutlines(context, camera, p.look, [ring], [], paint, raised.has(keyOf(p)))
  }
}

const leastCircle = 3 // CSS pixels: a smaller radius is not drawn
const earthRadius = 6_371_008.8 // metres, the mean one (IUGG)

/** The circle of a radius in metres around a position, as a ring of the map. */
function circleAround(at: LonLat, metres: number): MapPoint[] {
  const corners = 72
  const middle = project(at)
  const [lat, angle] = [(at.lat * Math.PI) / 180, metres / earthRadius]
  return Array.from({ length: corners + 1 }, (_, i) => {
    const bearing = (2 * Math.PI * i) / corners
    // The position at a distance and bearing on the sphere.
    const sine = Math.sin(lat) * Math.cos(angle) + Math.cos(lat) * Math.sin(angle) * Math.cos(bearing)
    const turn = Math.atan2(Math.sin(bearing) * Math.sin(angle) * Math.cos(lat), Math.cos(angle) - Math.sin(lat) * sine)
    const spot = project({ lon: at.lon + (turn * 180) / Math.PI, lat: (Math.asin(sine) * 180) / Math.PI })
    return { x: middle.x + shortWay(middle.x, spot.x), y: spot.y }
  })
}

/** Fills areas and strokes them and paths in a look. */
function drawOutlines(
  context: CanvasRenderingContext2D,
  camera: Camera,
  look: Look,
  areas: readonly (readonly MapPoint[])[],
  lines: readonly (readonly MapPoint[])[],
  paint: Paint,
  up: boolean,
): void {
  const { line, fill } = look
  const shown = (colour: string) => (paint.dark ? onDark(colour) : colour)
  context.beginPath()
  for (const ring of areas) trace(context, camera, ring, true)
  const opacity = fill.opacity ?? usualFill
  context.fillStyle = shown(fill.colour ?? look.colour)
  context.globalAlpha = up ? Math.min(1, opacity + 0.16) : opacity
  context.fill('evenodd')
  context.globalAlpha = line.opacity ?? 1
  // What was cut at the antimeridian, or led to a pole, has no border there.
  if (areas.some((ring) => ring.some((p, i) => onSeam(ring[i - 1], p)))) {
    context.beginPath()
    for (const ring of areas) traceBorder(context, camera, ring)
  }
  for (const path of lines) trace(context, camera, path, false)
  const width = line.width ?? usualWidth
  if (width > 0 || up) {
    // A light edge keeps a line apart from whatever it crosses.
    context.strokeStyle = up ? paint.focus : paint.paper
    context.lineWidth = width + (up ? 4 : 2)
    context.stroke()
  }
  if (width > 0) {
    context.setLineDash(dashes[line.dash ?? 'solid'].map((n) => n * width))
    context.strokeStyle = shown(line.colour ?? look.colour)
    context.lineWidth = width
    context.stroke()
    context.setLineDash([])
  }
  context.globalAlpha = 1
}

/** Adds a line to the path of a context. */
export function trace(
  context: CanvasRenderingContext2D,
  camera: Camera,
  line: readonly MapPoint[],
  closed: boolean,
): void {
  for (const copy of copies(line)) {
    eachOnScreen(camera, line, copy, (x, y, i) => {
      if (i === 0) context.moveTo(x, y)
      else context.lineTo(x, y)
    })
    if (closed) context.closePath()
  }
}

/** Traces a ring without its stretches along the antimeridian. */
function traceBorder(context: CanvasRenderingContext2D, camera: Camera, ring: readonly MapPoint[]): void {
  for (const copy of copies(ring)) {
    eachOnScreen(camera, ring, copy, (x, y, i) => {
      const p = ring[i]
      if (i === 0 || !p || onSeam(ring[i - 1], p)) context.moveTo(x, y)
      else context.lineTo(x, y)
    })
  }
}

/** How many worlds to the east a line is drawn: what is wider than half the world may show on both sides of the screen. */
function copies(line: readonly MapPoint[]): readonly number[] {
  let [west, east] = [Infinity, -Infinity]
  for (const p of line) {
    west = Math.min(west, p.x)
    east = Math.max(east, p.x)
  }
  return east - west > 0.5 ? [-1, 0, 1] : [0]
}

/** All of a line goes to the same side of the world, even what is far from the middle of the screen. */
function eachOnScreen(
  camera: Camera,
  line: readonly MapPoint[],
  copy: number,
  draw: (x: number, y: number, i: number) => void,
): void {
  const [first] = line
  if (!first) return
  const start = camera.toScreen(first)
  line.forEach((p, i) =>
    draw(start.x + (p.x - first.x + copy) * camera.scale, start.y + (p.y - first.y) * camera.scale, i),
  )
}

// In widths of the world, more than the decimals of an answer leave: of the antimeridian, and of the map's northern and southern edge.
const seam = { x: 1e-6, y: 1e-4 }

function onSeam(a: MapPoint | undefined, b: MapPoint): boolean {
  const along = (p: number, q: number, width: number) => Math.max(p, q) < width || Math.min(p, q) > 1 - width
  return a !== undefined && (along(a.x, b.x, seam.x) || along(a.y, b.y, seam.y))
}

/** The topmost shape at a spot of the screen. */
export function shapeAt(camera: Camera, shapes: readonly PlacedShape[], at: ScreenPoint): PlacedShape | null {
  const p = camera.toMap(at)
  const near = reach / camera.scale
  return shapes.findLast((s) => hits(s, p, near)) ?? null
}

function hits(s: PlacedShape, p: MapPoint, near: number): boolean {
  if (s.dots.some((d) => Math.hypot(shortWay(d.x, p.x), d.y - p.y) <= near)) return true
  if (s.lines.some((line) => line.some((b, i) => i > 0 && distance(line[i - 1] ?? b, b, p) <= near))) return true
  return s.areas.some((rings) => {
    let inside = false
    for (const ring of rings) {
      ring.forEach((b, i) => {
        const a = ring[i - 1]
        if (!a) return
        const turn = Math.round(p.x - a.x) // p beside a, where the antimeridian is between them
        if (a.y > p.y !== b.y > p.y && p.x - turn < ((b.x - a.x) * (p.y - a.y)) / (b.y - a.y) + a.x) inside = !inside
      })
    }
    return inside
  })
}

/** The distance of p from the line from a to b. */
function distance(a: MapPoint, b: MapPoint, p: MapPoint): number {
  const [dx, dy] = [b.x - a.x, b.y - a.y]
  const [px, py] = [shortWay(a.x, p.x), p.y - a.y]
  const length = dx * dx + dy * dy
  const f = length > 0 ? Math.max(0, Math.min(1, (px * dx + py * dy) / length)) : 0
  return Math.hypot(px - f * dx, py - f * dy)
}
