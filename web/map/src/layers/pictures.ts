import type { ScreenPoint } from '../camera'
import type { ScreenBox } from '../grid'
import { type Look, looksIn, shapeURL } from '../looks'
import type { Marker } from '../marker'
import type { Paint } from '../paint'
import type { Placed } from '../placed'
import type { Drawing } from './layer'

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
const mostBadges = 4000 // pictures that are kept by what they show

/** How wide the plate of a place is. Sizes go in steps, so that few pictures serve many places. */
export function plateOf(m: Marker): number {
  return m.drawing.size ? Math.round(m.drawing.size / 2) * 2 : usualPlate
}

/** How far the top of a marker is above its spot. */
export function liftOf(m: Marker): number {
  return m.kind === 'shape' ? 4 : m.kind === 'cluster' ? badgeHeight / 2 : plateOf(m) + foot
}

/** MarkerPictures draws markers, keeping pictures of plates and badges so that thousands cost little. */
export class MarkerPictures {
  // By what they are pictures of, and not by a text that says it: such a text, made for each marker in each frame,
  // costs more than the drawing.
  private plates = new WeakMap<Look, Map<number, HTMLCanvasElement>>() // by the width of the plate
  private badges = new WeakMap<Placed, HTMLCanvasElement>()
  // By what they show: markers are fetched again and again.
  private readonly sameBadges = new Map<string, HTMLCanvasElement>()
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

  box(context: CanvasRenderingContext2D, p: Placed, at: ScreenPoint): ScreenBox {
    if (p.marker.count === 1) {
      const plate = plateOf(p.marker)
      return { left: at.x - plate / 2, top: at.y - foot - plate, width: plate, height: plate + foot + footRound }
    }
    const width = this.badgeWidth(context, badgeText(p.marker))
    return { left: at.x - width / 2, top: at.y - badgeHeight / 2, width, height: badgeHeight }
  }

  /** Draws a marker, of which an opacity of 0 to 1 is to be seen. */
  draw(d: Drawing, p: Placed, at: ScreenPoint, opacity: number): void {
    const { context, paint } = d
    if (d.density !== this.density) this.reset()
    this.density = d.density
    if (p.marker.count === 1) this.drawPlace(d, p.look, plateOf(p.marker), at, opacity)
    else this.drawCluster(d, p, at, opacity)
    if (d.raised.has(p.key)) {
      const f = this.box(context, p, at)
      context.strokeStyle = paint.focus
      context.lineWidth = 3
      context.beginPath()
      context.roundRect(f.left - 4, f.top - 4, f.width + 8, f.height + 8, 10)
      context.stroke()
    }
  }

  private drawPlace(d: Drawing, look: Look, plate: number, at: ScreenPoint, opacity: number): void {
    const { density } = d
    const picture = this.plate(look, plate, d.paint, density)
    if (!picture) return
    const m = plateMargin
    const left = snapped(at.x - plate / 2 - m, density)
    const top = snapped(at.y - foot - plate - m, density)
    d.sprites.add(picture, left, top, plate + 2 * m, plate + foot + 2 * m, opacity)
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

  private drawCluster(d: Drawing, p: Placed, at: ScreenPoint, opacity: number): void {
    const { density } = d
    const { left, top, width, height } = this.box(d.context, p, at)
    const picture = this.badges.get(p) ?? this.badge(p, width, d.paint, density)
    if (!picture) return
    this.badges.set(p, picture)
    const m = badgeMargin
    d.sprites.add(
      picture,
      snapped(left - m, density),
      snapped(top - m, density),
      width + 2 * m,
      height + 2 * m,
      opacity,
    )
  }

  /** The picture of a badge. Thousands of texts and bars in each frame would cost far more than their pictures. */
  private badge(p: Placed, width: number, paint: Paint, density: number): HTMLCanvasElement | null {
    const shares = p.marker.tally.map(([category, count, layer]) => ({
      colour: looksIn(p.drawn, layer).of(category).colour,
      width: ((width - 8) * count) / p.marker.count,
    }))
    const key = `${badgeText(p.marker)} ${shares.map((s) => `${s.colour}${s.width.toFixed(1)}`).join(' ')}`
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
    c.fillText(badgeText(p.marker), width / 2, (badgeHeight - barHeight - 3) / 2 + 1.5)
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

/** The nearest whole device pixel, in CSS pixels. It keeps a picture as sharp as it was drawn. */
export function snapped(v: number, density: number): number {
  return Math.round(v * density) / density
}

const badgeFont = '600 13px system-ui, sans-serif'

/** What a badge shows. */
function badgeText(m: Marker): string {
  return m.badge ? numberText(m.badge.number) : countText(m.count)
}

/** Writes a count so short that a badge stays narrow. */
export function countText(n: number): string {
  if (n < 10_000) return String(n)
  if (n < 1_000_000) return `${Math.floor(n / 1000)}k`
  return `${(Math.floor(n / 100_000) / 10).toString()}M`
}

/** Writes any number so short that a badge stays narrow: with three digits or so. */
export function numberText(v: number): string {
  const size = Math.abs(v)
  const sign = v < 0 ? '\u2212' : ''
  if (size >= 1e9 || (size > 0 && size < 0.01)) return sign + size.toExponential(0)
  if (size >= 1000) return sign + countText(Math.round(size))
  return sign + String(Number(size.toPrecision(size < 1 ? 2 : 3)))
}
