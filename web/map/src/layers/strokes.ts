import type { Camera } from '../camera'
import { type Look, onDark } from '../looks'
import type { Paint } from '../paint'
import type { Line } from '../shape'

const usualFill = 0.16 // opacity
const usualWidth = 2.5 // of strokes, in CSS pixels
const dashes = { solid: [], dashed: [3, 2.2], dotted: [0.1, 2] } // of the width

/** Fills areas and strokes them and paths in a look. */
export function drawOutlines(
  context: CanvasRenderingContext2D,
  camera: Camera,
  look: Look,
  rings: readonly Line[],
  lines: readonly Line[],
  paint: Paint,
  raised: boolean,
): void {
  const { line, fill } = look
  const shown = (colour: string) => (paint.dark ? onDark(colour) : colour)
  context.beginPath()
  for (const ring of rings) trace(context, camera, ring, true)
  context.fillStyle = shown(fill.colour ?? look.colour)
  context.globalAlpha = fill.opacity ?? usualFill
  context.fill('evenodd')
  context.globalAlpha = line.opacity ?? 1
  // What was cut at the antimeridian, or led to a pole, has no border there.
  if (rings.some(hasSeam)) {
    context.beginPath()
    for (const ring of rings) traceBorder(context, camera, ring)
  }
  for (const path of lines) trace(context, camera, path, false)
  const width = line.width ?? usualWidth
  if (width > 0 || raised) {
    // A light edge keeps a line apart from whatever it crosses.
    context.strokeStyle = raised ? paint.focus : paint.paper
    context.lineWidth = width + (raised ? 4 : 2)
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
export function trace(context: CanvasRenderingContext2D, camera: Camera, line: Line, closed: boolean): void {
  for (const copy of copies(line)) {
    eachOnScreen(camera, line, copy, (x, y, i) => {
      if (i === 0) context.moveTo(x, y)
      else context.lineTo(x, y)
    })
    if (closed) context.closePath()
  }
}

/** Traces a ring without its stretches along the antimeridian. */
function traceBorder(context: CanvasRenderingContext2D, camera: Camera, ring: Line): void {
  for (const copy of copies(ring)) {
    eachOnScreen(camera, ring, copy, (x, y, i) => {
      if (i === 0 || onSeam(ring, i)) context.moveTo(x, y)
      else context.lineTo(x, y)
    })
  }
}

/** How many worlds to the east a line is drawn: what is wider than half the world may show on both sides. */
function copies(line: Line): readonly number[] {
  let [west, east] = [Infinity, -Infinity]
  for (let i = 0; i < line.length; i += 2) {
    west = Math.min(west, line[i] ?? 0)
    east = Math.max(east, line[i] ?? 0)
  }
  return east - west > 0.5 ? [-1, 0, 1] : [0]
}

/** All of a line goes to the same side of the world, even what is far from the middle of the screen. */
function eachOnScreen(camera: Camera, line: Line, copy: number, draw: (x: number, y: number, i: number) => void): void {
  if (line.length === 0) return
  const [x0, y0, scale] = [line[0] ?? 0, line[1] ?? 0, camera.scale]
  const start = camera.toScreen({ x: x0, y: y0 })
  for (let i = 0; i < line.length; i += 2) {
    draw(start.x + ((line[i] ?? 0) - x0 + copy) * scale, start.y + ((line[i + 1] ?? 0) - y0) * scale, i)
  }
}

// In widths of the world, more than the decimals of an answer leave: of the antimeridian, and of the map's northern and
// southern edge.
const seam = { x: 1e-6, y: 1e-4 }

function hasSeam(ring: Line): boolean {
  for (let i = 2; i < ring.length; i += 2) if (onSeam(ring, i)) return true
  return false
}

/** Whether the step of a ring that ends at index i runs along a seam. */
function onSeam(ring: Line, i: number): boolean {
  if (i < 2) return false
  const along = (p: number, q: number, width: number) => Math.max(p, q) < width || Math.min(p, q) > 1 - width
  return along(ring[i - 2] ?? 0, ring[i] ?? 0, seam.x) || along(ring[i - 1] ?? 0, ring[i + 1] ?? 0, seam.y)
}
