import type { ScreenPoint } from './camera'
import { type Drawing, type Look, type Looks, shapeURL } from './looks'
import { type Box, type LonLat, type MapPoint, project } from './projection'

/** What to draw at one spot: a place, or a cluster standing for several. */
export interface Marker {
  key: string // unique in its source; the same for the same thing
  kind: 'place' | 'cluster' | 'shape' // a shape is one only where it has been picked
  at: LonLat
  name: string // of a place
  id: string // of a place
  category: string // of a place
  drawing: Drawing // of a place
  count: number // places it stands for; 1 for a place
  tally: readonly (readonly [category: string, count: number])[] // of a cluster, in the order of the legend
  opensAt: number | null // the zoom at which a cluster opens; null where its places share a spot
  extent: Box | null // of a cluster's places
  stacked: readonly StackedPlace[] // the first places of a cluster that share a spot
}

/** One of the places that share a spot. */
export interface StackedPlace {
  id: string
  name: string
  category: string
}

/** A marker on the map: with its source, and where it is. */
export interface PlacedMarker {
  source: string
  marker: Marker
  map: MapPoint
  look: Look
  looks: Looks
}

export function placeMarker(source: string, marker: Marker, looks: Looks): PlacedMarker {
  return { source, marker, map: project(marker.at), looks, look: looks.of(marker.category, marker.drawing) }
}

/** A key of a marker that is unique on the map. */
export function keyOf(p: PlacedMarker): string {
  return `${p.source}/${p.marker.key}`
}

/** Colours of what is not data. */
export interface Paint {
  sea: string
  land: string
  shore: string
  line: string
  label: string
  paper: string
  ink: string
  edge: string
  focus: string
  dark: boolean // the map is
}

// A place is a plate on a post, whose round foot stands on the very spot; these are CSS pixels.
const usualPlate = 26
const plateRound = 7
const foot = 10 // from the plate to the spot
const footRound = 2.5
const plateMargin = 5 // around the picture of a plate
const badgeHeight = 28
const badgeRound = 6
const barHeight = 5
const badgeMargin = 2 // around the picture of a badge
const labelReach = 1.3 // times the room in an area, which a name may take
const mostBadges = 4000 // pictures that are kept by what they show

/** The frame of a marker on the screen about its spot. */
export interface Frame {
  left: number
  top: number
  width: number
  height: number
}

/** The name of an area, and where there is room for it, the best first. */
export interface AreaLabel {
  name: string
  spots: readonly { at: ScreenPoint; room: number }[] // the middle, and the width in CSS pixels
}

/** How wide the plate of a place is. Sizes go in steps, so that few pictures serve many places. */
export function plateOf(m: Marker): number {
  return m.drawing.size ? Math.round(m.drawing.size / 2) * 2 : usualPlate
}

/** How far the top of a marker is above its spot. */
export function liftOf(m: Marker): number {
  return m.kind === 'shape' ? 4 : m.kind === 'cluster' ? badgeHeight / 2 : plateOf(m) + foot
}

/** MarkerPainter draws markers, keeping pictures of plates and badges so that thousands cost little. */
export class MarkerPainter {
  // By what they are pictures of, and not by a text that says it: such a text, made for each marker in each frame, costs
  // more than the drawing.
  private plates = new WeakMap<Look, Map<number, HTMLCanvasElement>>() // by the width of the plate
  private badges = new WeakMap<PlacedMarker, HTMLCanvasElement>()
  private readonly sameBadges = new Map<string, HTMLCanvasElement>() // by what they show: markers are fetched again and again
  private density = 0 // of the pictures, device pixels to a CSS pixel
  private readonly shapes = new Map<string, HTMLImageElement | 'failed'>()
  private readonly widths = new Map<string, number>()

  constructor(private readonly onLoad: () => void) {}

  /** Forgets pictures, as when the colours change. */
  reset(): void {
    this.plates = new WeakMap()
    this.badges = new WeakMap()
    this.sameBadges.clear()
  }

  frame(context: CanvasRenderingContext2D, p: PlacedMarker, at: ScreenPoint): Frame {
    if (p.marker.count === 1) {
      const plate = plateOf(p.marker)
      return { left: at.x - plate / 2, top: at.y - foot - plate, width: plate, height: plate + foot + footRound }
    }
    const width = this.badgeWidth(context, countText(p.marker.count))
    return { left: at.x - width / 2, top: at.y - badgeHeight / 2, width, height: badgeHeight }
  }

  draw(
    context: CanvasRenderingContext2D,
    p: PlacedMarker,
    at: ScreenPoint,
    paint: Paint,
    density: number,
    raised: boolean,
  ): void {
    if (density !== this.density) this.reset()
    this.density = density
    if (p.marker.count === 1) this.drawPlace(context, p.look, plateOf(p.marker), at, paint, density)
    else this.drawCluster(context, p, at, paint, density)
    if (raised) {
      const f = this.frame(context, p, at)
      context.strokeStyle = paint.focus
      context.lineWidth = 3
      context.beginPath()
      context.roundRect(f.left - 4, f.top - 4, f.width + 8, f.height + 8, 10)
      context.stroke()
    }
  }

  private drawPlace(
    context: CanvasRenderingContext2D,
    look: Look,
    plate: number,
    at: ScreenPoint,
    paint: Paint,
    density: number,
  ): void {
    const picture = this.plate(look, plate, paint, density)
    if (!picture) return
    const m = plateMargin
    context.drawImage(picture, at.x - plate / 2 - m, at.y - foot - plate - m, plate + 2 * m, plate + foot + 2 * m)
  }

  /** The picture of a plate on its foot, or null until its shape is there. */
  private plate(look: Look, plate: number, paint: Paint, density: number): HTMLCanvasElement | null {
    const sizes = this.plates.get(look) ?? new Map<number, HTMLCanvasElement>()
    const known = sizes.get(plate)
    if (known) return known
    const shape = this.shape(look)
    if (!shape) return null
    const canvas = document.createElement('canvas')
    canvas.width = Math.ceil((plate + 2 * plateMargin) * density)
    canvas.height = Math.ceil((plate + foot + 2 * plateMargin) * density)
    const c = canvas.getContext('2d')
    if (!c) return null
    c.scale(density, density)
    c.translate(plateMargin, plateMargin)
    const outline = new Path2D()
    outline.roundRect(0, 0, plate, plate, Math.min(plateRound, plate * 0.27))
    outline.rect(plate / 2 - 1.25, plate - 1, 2.5, foot)
    outline.moveTo(plate / 2 + footRound, plate + foot)
    outline.arc(plate / 2, plate + foot, footRound, 0, 2 * Math.PI)
    c.strokeStyle = paint.paper
    c.lineWidth = 3
    c.lineJoin = 'round'
    c.stroke(outline)
    c.fillStyle = look.colour
    c.fill(outline)
    const inset = plate * 0.2
    // A place whose icon is broken is still a place.
    if (shape !== 'failed') c.drawImage(shape, inset, inset, plate - 2 * inset, plate - 2 * inset)
    this.plates.set(look, sizes.set(plate, canvas))
    return canvas
  }

  /** The picture of a look's shape, or null until it is there. */
  private shape(look: Look): HTMLImageElement | 'failed' | null {
    const url = shapeURL(look, look.ink)
    const known = this.shapes.get(url)
    if (known === 'failed') return known
    if (known) return known.complete && known.naturalWidth > 0 ? known : null
    const image = new Image(96, 96)
    image.onload = () => this.onLoad()
    image.onerror = () => {
      this.shapes.set(url, 'failed')
      this.onLoad()
    }
    image.src = url
    this.shapes.set(url, image)
    return null
  }

  private drawCluster(
    context: CanvasRenderingContext2D,
    p: PlacedMarker,
    at: ScreenPoint,
    paint: Paint,
    density: number,
  ): void {
    const { left, top, width, height } = this.frame(context, p, at)
    // Whole device pixels keep the picture as sharp as it was drawn.
    const whole = (v: number) => Math.round(v * density) / density
    const picture = this.badges.get(p) ?? this.badge(p, width, paint, density)
    if (!picture) return
    this.badges.set(p, picture)
    context.drawImage(
      picture,
      whole(left) - badgeMargin,
      whole(top) - badgeMargin,
      width + 2 * badgeMargin,
      height + 2 * badgeMargin,
    )
  }

  /** The picture of a badge. Thousands of texts and bars in each frame would cost far more than their pictures. */
  private badge(p: PlacedMarker, width: number, paint: Paint, density: number): HTMLCanvasElement | null {
    const shares = p.marker.tally.map(([category, count]) => ({
      colour: p.looks.of(category).colour,
      width: ((width - 8) * count) / p.marker.count,
    }))
    const key = `${countText(p.marker.count)} ${shares.map((s) => `${s.colour}${s.width.toFixed(1)}`).join(' ')}`
    const same = this.sameBadges.get(key)
    if (same) return same
    const canvas = document.createElement('canvas')
    canvas.width = Math.ceil((width + 2 * badgeMargin) * density)
    canvas.height = Math.ceil((badgeHeight + 2 * badgeMargin) * density)
    const c = canvas.getContext('2d')
    if (!c) return null
    c.scale(density, density)
    c.translate(badgeMargin, badgeMargin)
    c.beginPath()
    c.roundRect(0, 0, width, badgeHeight, badgeRound)
    c.fillStyle = paint.paper
    c.fill()
    c.strokeStyle = paint.edge
    c.lineWidth = 1
    c.stroke()
    c.fillStyle = paint.ink
    c.font = badgeFont
    c.textAlign = 'center'
    c.textBaseline = 'middle'
    c.fillText(countText(p.marker.count), width / 2, (badgeHeight - barHeight - 3) / 2 + 1.5)
    let x = 4
    for (const share of shares) {
      c.fillStyle = share.colour
      c.fillRect(x, badgeHeight - barHeight - 3, share.width, barHeight)
      x += share.width
    }
    if (this.sameBadges.size >= mostBadges) this.sameBadges.clear()
    this.sameBadges.set(key, canvas)
    return canvas
  }

  /** Writes names beside places and into areas, those that do not run into what is there already. */
  drawLabels(
    context: CanvasRenderingContext2D,
    labelled: readonly { placed: PlacedMarker; at: ScreenPoint }[],
    areas: readonly AreaLabel[],
    taken: readonly Frame[],
    paint: Paint,
  ): void {
    const all = [...taken]
    context.font = '12px system-ui, sans-serif'
    context.textBaseline = 'middle'
    context.lineJoin = 'round'
    const write = (name: string, spots: (width: number) => Frame[]) => {
      const text = name.length > 28 ? `${name.slice(0, 27)}…` : name
      const at = text && spots(context.measureText(text).width).find((f) => !all.some((o) => overlap(o, f)))
      if (!at) return
      all.push(at)
      context.strokeStyle = paint.paper
      context.lineWidth = 3
      context.strokeText(text, at.left, at.top + 8)
      context.fillStyle = paint.ink
      context.fillText(text, at.left, at.top + 8)
    }
    for (const { placed, at } of labelled) {
      const f = this.frame(context, placed, at)
      write(placed.marker.name, (width) => [{ left: f.left + f.width + 3, top: f.top + 4, width, height: 16 }])
    }
    // The name of an area goes into it, where it has room.
    for (const { name, spots } of areas) {
      write(name, (width) =>
        spots
          .filter(({ room }) => width <= labelReach * room)
          .map(({ at }) => ({ left: at.x - width / 2, top: at.y - 8, width, height: 16 })),
      )
    }
    context.textBaseline = 'alphabetic'
  }

  private badgeWidth(context: CanvasRenderingContext2D, text: string): number {
    let width = this.widths.get(text)
    if (width === undefined) {
      context.font = badgeFont
      width = Math.max(34, Math.ceil(context.measureText(text).width) + 14)
      this.widths.set(text, width)
    }
    return width
  }
}

function overlap(a: Frame, b: Frame): boolean {
  return a.left < b.left + b.width && b.left < a.left + a.width && a.top < b.top + b.height && b.top < a.top + a.height
}

const badgeFont = '600 13px system-ui, sans-serif'

/** Writes a count so short that a badge stays narrow. */
export function countText(n: number): string {
  if (n < 10_000) return String(n)
  if (n < 1_000_000) return `${Math.floor(n / 1000)}k`
  return `${(Math.floor(n / 100_000) / 10).toString()}M`
}

/** Says in words what a marker is. */
export function describeMarker(m: Marker): string {
  if (m.count === 1) return [m.name || m.id, m.category].filter(Boolean).join(', ')
  const parts = [...m.tally]
    .sort((a, b) => b[1] - a[1])
    .map(([category, count]) => `${count} ${category || 'without category'}`)
  return `Cluster of ${m.count} places: ${parts.join(', ')}`
}
