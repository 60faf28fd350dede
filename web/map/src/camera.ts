import { type Box, type Position, type MapPoint, project, shortWay, tilePixels, unproject, wrap } from './projection'

/** Where the map looks: the position at the middle of the screen, and the zoom, which may be fractional. */
export interface View {
  centre: Position
  zoom: number
}

/** A position on the screen in CSS pixels from its top left corner. */
export interface ScreenPoint {
  x: number
  y: number
}

export const maxZoom = 24

/** Camera turns map positions into screen positions and back. It keeps the view inside the world. */
export class Camera {
  width = 1
  height = 1
  private middle: MapPoint = { x: 0.5, y: 0.5 }
  private level = 2
  private across = tilePixels * 2 ** this.level

  get zoom(): number {
    return this.level
  }

  /** The width of the world on the screen in CSS pixels. */
  get scale(): number {
    return this.across
  }

  /** The least zoom: the world fills the screen both ways. */
  get minZoom(): number {
    return Math.max(0, Math.log2(Math.max(this.width, this.height) / tilePixels))
  }

  get view(): View {
    return { centre: unproject(this.middle), zoom: this.level }
  }

  set view(v: View) {
    this.place(project(v.centre), v.zoom)
  }

  get centre(): MapPoint {
    return this.middle
  }

  place(middle: MapPoint, zoom: number): void {
    this.level = Math.max(this.minZoom, Math.min(maxZoom, zoom))
    this.across = tilePixels * 2 ** this.level
    const halfHeight = this.height / 2 / this.scale
    this.middle = { x: wrap(middle.x), y: Math.max(halfHeight, Math.min(1 - halfHeight, middle.y)) }
  }

  resize(width: number, height: number): void {
    this.width = Math.max(1, width)
    this.height = Math.max(1, height)
    this.place(this.middle, this.level)
  }

  /** Another camera that looks the same way. */
  copy(): Camera {
    const copy = new Camera()
    copy.resize(this.width, this.height)
    copy.view = this.view
    return copy
  }

  toScreen(m: MapPoint): ScreenPoint {
    const scale = this.scale
    return {
      x: this.width / 2 + shortWay(this.middle.x, m.x) * scale,
      y: this.height / 2 + (m.y - this.middle.y) * scale,
    }
  }

  toMap(s: ScreenPoint): MapPoint {
    const scale = this.scale
    return {
      x: this.middle.x + (s.x - this.width / 2) / scale,
      y: this.middle.y + (s.y - this.height / 2) / scale,
    }
  }

  shift(dx: number, dy: number): void {
    this.place({ x: this.middle.x + dx / this.scale, y: this.middle.y + dy / this.scale }, this.level)
  }

  /** Zooms so that what lies under the given spot of the screen stays there. */
  zoomAbout(at: ScreenPoint, zoom: number): void {
    const fixed = this.toMap(at)
    const level = Math.max(this.minZoom, Math.min(maxZoom, zoom))
    const scale = tilePixels * 2 ** level
    this.place({ x: fixed.x - (at.x - this.width / 2) / scale, y: fixed.y - (at.y - this.height / 2) / scale }, level)
  }

  /** The view that shows a box with a padding in CSS pixels around it. */
  viewOf(box: Box, padding: number): View {
    const nw = project({ lon: box.west, lat: box.north })
    const se = project({ lon: box.east, lat: box.south })
    const width = box.west > box.east ? se.x + 1 - nw.x : se.x - nw.x
    const room = (pixels: number) => Math.max(40, pixels - 2 * padding)
    const zoom = Math.min(
      16, // a single place is shown with its surroundings
      Math.log2(room(this.width) / tilePixels / Math.max(width, 1e-9)),
      Math.log2(room(this.height) / tilePixels / Math.max(se.y - nw.y, 1e-9)),
    )
    return { centre: unproject({ x: nw.x + width / 2, y: (nw.y + se.y) / 2 }), zoom: Math.max(this.minZoom, zoom) }
  }

  /** The box on the screen, widened on each side by a share of its size. */
  bounds(margin = 0): Box {
    const west = this.toMap({ x: -this.width * margin, y: 0 }).x
    const east = this.toMap({ x: this.width * (1 + margin), y: 0 }).x
    const lat = (y: number) => (y <= 0 ? 90 : y >= 1 ? -90 : unproject({ x: 0, y }).lat)
    const north = lat(this.toMap({ x: 0, y: -this.height * margin }).y)
    const south = lat(this.toMap({ x: 0, y: this.height * (1 + margin) }).y)
    if (east - west >= 1) return { west: -180, south, east: 180, north }
    return { west: wrap(west) * 360 - 180, south, east: wrap(east) * 360 - 180, north }
  }
}

// Markers change at whole zooms, and where cells of 32 pixels have grown to 44. Sources are asked for a half there.
const halfFrom = Math.log2(11 / 8)

/** The zoom to ask for at a zoom: all zooms with the same one have the same markers. */
export function stepOf(zoom: number): number {
  const whole = Math.floor(zoom)
  return zoom - whole >= halfFrom ? whole + 0.5 : whole
}

const gridPixels = 256 // at the whole zoom below the camera's

/**
 * The box of the whole grid squares that hold the screen and a share of its size around it: users who look at about the
 * same have the same box. It is a trifle smaller, so that no rounding makes it reach into the next squares.
 */
export function gridBox(camera: Camera, margin: number): Box {
  const columns = (tilePixels / gridPixels) * 2 ** Math.floor(camera.zoom)
  const trifle = 0.05 / gridPixels // of a square
  const nw = camera.toMap({ x: -camera.width * margin, y: -camera.height * margin })
  const se = camera.toMap({ x: camera.width * (1 + margin), y: camera.height * (1 + margin) })
  const west = Math.floor(nw.x * columns)
  const east = Math.ceil(se.x * columns)
  const top = Math.max(0, Math.floor(nw.y * columns))
  const bottom = Math.min(columns, Math.ceil(se.y * columns))
  const lat = (y: number) => unproject({ x: 0, y: y / columns }).lat
  const north = top <= 0 ? 90 : lat(top + trifle)
  const south = bottom >= columns ? -90 : lat(bottom - trifle)
  if (east - west >= columns) return { west: -180, south, east: 180, north }
  const lon = (x: number) => wrap(x / columns) * 360 - 180
  return { west: lon(west + trifle), south, east: lon(east - trifle), north }
}

/** Whether box a lies wholly in box b. */
export function covers(b: Box, a: Box): boolean {
  if (a.south < b.south || a.north > b.north) return false
  const width = (x: Box) => (x.west > x.east ? x.east + 360 - x.west : x.east - x.west)
  if (width(b) >= 360) return true
  const start = (((a.west - b.west) % 360) + 360) % 360
  return start + width(a) <= width(b)
}

export function inBox(box: Box, p: Position): boolean {
  if (p.lat < box.south || p.lat > box.north) return false
  return box.west > box.east ? p.lon >= box.west || p.lon <= box.east : p.lon >= box.west && p.lon <= box.east
}
