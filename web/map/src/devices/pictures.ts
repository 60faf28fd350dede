import type { Drawing } from '../layers/layer'
import type { Paint } from '../paint'

export const ring = 10 // CSS pixels, the radius of a device's ring
export const tip = 18 // CSS pixels from the middle to the point of a wedge
const thickest = 3 // CSS pixels, the ring of a device that has just reported
const thinnest = 0.8
const widths = 5 // how many widths of rings are told apart
const headings = 72
const most = 2000 // pictures that are kept

/** What a device looks like. */
export interface Sight {
  colour: string
  state: string
  heading: number | undefined // degrees clockwise from north
  width: number // of its ring, a whole number as widthOf gives it
}

/** How wide a ring is if some of the time is left until its device is silent, 0 to 1. */
export const widthOf = (left: number) => Math.round(Math.max(0, Math.min(1, left)) * (widths - 1))

/** A picture no larger than what it shows, and where the device is in it. All lengths are in CSS pixels. */
export interface Picture {
  image: ImageBitmap | HTMLCanvasElement
  width: number
  height: number
  x: number
  y: number
}

/** DevicePictures has pictures of devices, which are kept so that thousands cost little. */
export class DevicePictures {
  // By colour, and by what else a device shows: texts that say it all would cost more than the drawing.
  private readonly kept = new Map<string, Picture[]>()
  private count = 0
  private density = 0 // of the pictures, device pixels to a CSS pixel
  private paint: Paint | null = null

  /** Grows when the pictures that were given out are not right any more. */
  epoch = 0

  /** Has pictures made for what is drawn from now on. */
  begin({ paint, density }: Drawing): void {
    if (density === this.density && paint === this.paint && this.count <= most) return
    this.kept.clear()
    this.count = 0
    this.epoch++
    this.density = density
    this.paint = paint
  }

  /** Returns the picture of a device. */
  of(sight: Sight): Picture {
    const { paint, density } = this
    let own = this.kept.get(sight.colour)
    if (!own) this.kept.set(sight.colour, (own = []))
    const silent = sight.state === 'silent'
    const { width } = sight
    const moves = sight.state === 'moving'
    const turn = moves && sight.heading !== undefined ? headingOf(sight.heading) : headings + Number(moves)
    const number = silent ? 0 : 1 + turn * widths + width
    let picture = own[number]
    if (!picture) {
      this.count++
      const points = silent || turn >= headings ? null : (turn * 2 * Math.PI) / headings
      own[number] = picture = pictureOf(density, points, (c) => {
        if (!paint) return
        drawRing(c, sight.colour, silent, width, paint)
        if (!silent) drawInner(c, sight.colour, turn, paint)
      })
    }
    return picture
  }
}

/** Makes a picture of a ring, and of a wedge that points somewhere, in radians clockwise from north; null for none. */
function pictureOf(density: number, points: number | null, draw: (context: CanvasRenderingContext2D) => void): Picture {
  const around = ring + 3.5
  const beyond = { x: 0, y: 0, ...(points !== null && { x: Math.sin(points) * tip, y: -Math.cos(points) * tip }) }
  const edge = 2.5 // of the wedge
  const x = Math.max(around, edge - beyond.x)
  const y = Math.max(around, edge - beyond.y)
  const canvas = document.createElement('canvas')
  canvas.width = Math.ceil((x + Math.max(around, beyond.x + edge)) * density)
  canvas.height = Math.ceil((y + Math.max(around, beyond.y + edge)) * density)
  const context = canvas.getContext('2d')
  if (context) {
    context.scale(density, density)
    context.translate(x, y)
    context.lineJoin = 'round'
    draw(context)
  }
  const made = { width: canvas.width / density, height: canvas.height / density, x, y }
  if (typeof OffscreenCanvas === 'undefined') return { image: canvas, ...made }
  // A bitmap is drawn faster than a canvas.
  const copy = new OffscreenCanvas(canvas.width, canvas.height)
  copy.getContext('2d')?.drawImage(canvas, 0, 0)
  return { image: copy.transferToImageBitmap(), ...made }
}

const headingOf = (degrees: number) => Math.round((((degrees % 360) + 360) % 360) / (360 / headings)) % headings

/** The ring, with paper below all of it, so that it stands out from whatever is there. */
function drawRing(context: CanvasRenderingContext2D, colour: string, silent: boolean, width: number, paint: Paint) {
  context.beginPath()
  context.arc(0, 0, ring + 3, 0, 2 * Math.PI)
  context.fillStyle = paint.paper
  context.globalAlpha = 0.85
  context.fill()
  context.globalAlpha = 1
  context.beginPath()
  context.arc(0, 0, ring, 0, 2 * Math.PI)
  context.strokeStyle = colour
  context.lineWidth = silent ? 1.5 : thinnest + ((thickest - thinnest) * width) / (widths - 1)
  if (silent) context.setLineDash([3, 3])
  context.stroke()
}

/** A wedge whose point is beyond the ring, and whose back is notched; or a disc. */
function drawInner(context: CanvasRenderingContext2D, colour: string, turn: number, paint: Paint): void {
  context.fillStyle = colour
  context.beginPath()
  if (turn >= headings) {
    context.arc(0, 0, turn > headings ? 5.5 : 4, 0, 2 * Math.PI)
  } else {
    context.rotate((turn * 2 * Math.PI) / headings)
    context.moveTo(0, -tip)
    context.lineTo(5.5, 5)
    context.lineTo(0, 2)
    context.lineTo(-5.5, 5)
    context.closePath()
    context.strokeStyle = paint.paper
    context.lineWidth = 2
    context.stroke()
  }
  context.fill()
}
