import type { FeatureCollection, GeoJSON, Geometry, Position } from 'geojson'
import { feature } from 'topojson-client'
import type { Topology } from 'topojson-specification'
import coarse from 'world-atlas/land-110m.json?url'
import fine from 'world-atlas/land-50m.json?url'
import type { Camera } from '../camera'
import { type MapPoint, project, shortWay } from '../projection'
import { drawGraticule } from './graticule'
import type { Drawing, Layer } from './layer'

/** A closed line of the land's edge in map units. */
interface Ring {
  points: Float64Array // x, y, x, y, ...
  west: number
  east: number
  north: number
  south: number
}

/** Land outlines that can be drawn. */
class Land {
  constructor(private readonly rings: Ring[]) {}

  static of(data: GeoJSON): Land {
    const rings: Ring[] = []
    eachRing(data, (positions) => rings.push(ringOf(positions)))
    return new Land(rings)
  }

  /** Adds the outlines in view to the context's path. Points closer together than a pixel can show are passed over. */
  trace(context: CanvasRenderingContext2D, camera: Camera): void {
    const scale = camera.scale
    const halfWidth = camera.width / 2 / scale
    const top = camera.centre.y - camera.height / 2 / scale
    const bottom = camera.centre.y + camera.height / 2 / scale
    for (const ring of this.rings) {
      if (ring.south < top || ring.north > bottom) continue
      for (const turn of [-1, 0, 1]) {
        const west = ring.west + turn - camera.centre.x
        const east = ring.east + turn - camera.centre.x
        if (east < -halfWidth || west > halfWidth) continue
        this.traceRing(context, camera, ring, turn, scale)
      }
    }
  }

  private traceRing(context: CanvasRenderingContext2D, camera: Camera, ring: Ring, turn: number, scale: number): void {
    const offsetX = camera.width / 2 + (turn - camera.centre.x) * scale
    const offsetY = camera.height / 2 - camera.centre.y * scale
    let lastX = NaN
    let lastY = NaN
    for (let i = 0; i < ring.points.length; i += 2) {
      const x = offsetX + (ring.points[i] ?? 0) * scale
      const y = offsetY + (ring.points[i + 1] ?? 0) * scale
      if (i === 0) context.moveTo(x, y)
      else if (Math.abs(x - lastX) + Math.abs(y - lastY) < 0.8) continue
      else context.lineTo(x, y)
      lastX = x
      lastY = y
    }
    context.closePath()
  }
}

/**
 * Turns a line of positions into a ring. A step of more than half the world goes the short way, across the
 * antimeridian; a ring that so goes round the whole world holds a pole, and is closed along that edge of the map.
 */
function ringOf(positions: Position[]): Ring {
  const line: MapPoint[] = []
  for (const [lon = 0, lat = 0] of positions) {
    const m = project({ lon, lat })
    const last = line.at(-1)
    line.push(last ? { x: last.x + shortWay(last.x, m.x), y: m.y } : m)
  }
  const [first, last] = [line[0], line.at(-1)]
  if (first && last && Math.abs(last.x - first.x) > 0.5) {
    const edge = first.y > 0.5 ? 1 : 0
    line.push({ x: last.x, y: edge }, { x: first.x, y: edge })
  }
  const ring: Ring = {
    points: new Float64Array(line.length * 2),
    west: Infinity,
    east: -Infinity,
    north: Infinity,
    south: -Infinity,
  }
  line.forEach((m, i) => {
    ring.points[2 * i] = m.x
    ring.points[2 * i + 1] = m.y
    ring.west = Math.min(ring.west, m.x)
    ring.east = Math.max(ring.east, m.x)
    ring.north = Math.min(ring.north, m.y)
    ring.south = Math.max(ring.south, m.y)
  })
  return ring
}

function eachRing(data: GeoJSON, use: (ring: Position[]) => void): void {
  if (data.type === 'FeatureCollection') for (const f of (data as FeatureCollection).features) eachRing(f, use)
  else if (data.type === 'Feature') {
    if (data.geometry) eachRing(data.geometry as Geometry, use)
  } else if (data.type === 'Polygon') data.coordinates.forEach(use)
  else if (data.type === 'MultiPolygon') data.coordinates.forEach((p) => p.forEach(use))
}

const firstRetry = 5_000 // ms
const longestRetry = 300_000

/** The zoom from which the fine outlines of the world are drawn. */
const fineFrom = 3.5

/**
 * WorldLand loads the outlines of the world's land in two grades as they are needed. They come with the page: no other
 * server is asked.
 */
class WorldLand {
  // One that could not be loaded stays 'loading' until it is asked for again.
  private readonly grades = new Map<string, Land | 'loading'>()
  private pause = firstRetry

  constructor(private readonly onLoad: () => void) {}

  at(zoom: number): Land | null {
    const wanted = this.get(zoom < fineFrom ? coarse : fine)
    return wanted ?? this.get(coarse)
  }

  private get(url: string): Land | null {
    const known = this.grades.get(url)
    if (known === undefined) {
      this.grades.set(url, 'loading')
      void this.load(url)
      return null
    }
    return known === 'loading' ? null : known
  }

  private async load(url: string): Promise<void> {
    try {
      const response = await fetch(url)
      if (!response.ok) throw new Error(response.statusText)
      const topology = (await response.json()) as Topology
      const land = topology.objects.land
      if (land) this.grades.set(url, Land.of(feature(topology, land)))
      this.onLoad()
      this.pause = firstRetry
    } catch {
      // The map works without; a later frame asks again.
      window.setTimeout(() => {
        this.grades.delete(url)
        this.onLoad()
      }, this.pause)
      this.pause = Math.min(2 * this.pause, longestRetry)
    }
  }
}

/** LandLayer draws the sea, the lines of longitude and latitude, the world's land and an app's own. */
export class LandLayer implements Layer {
  private readonly world: WorldLand
  private own: Land | null = null

  constructor(private readonly onChange: () => void) {
    this.world = new WorldLand(onChange)
  }

  /** The app's own land, drawn over the world's. */
  set backdrop(data: GeoJSON | null) {
    this.own = data && Land.of(data)
    this.onChange()
  }

  draw(d: Drawing): void {
    const { context, camera, paint } = d
    context.fillStyle = paint.sea
    context.fillRect(0, 0, camera.width, camera.height)
    drawGraticule(d)
    context.fillStyle = paint.land
    context.strokeStyle = paint.shore
    context.lineWidth = 1
    context.lineJoin = 'round'
    for (const land of [this.world.at(camera.zoom), this.own]) {
      if (!land) continue
      context.beginPath()
      land.trace(context, camera)
      context.fill('evenodd')
      context.stroke()
    }
  }
}
