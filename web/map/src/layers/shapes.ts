import type { Camera, ScreenPoint } from '../camera'
import { onDark } from '../looks'
import { unproject } from '../projection'
import type { Placed } from '../placed'
import type { Scene } from '../scene'
import { isAt, markerOf, type PlacedShape } from '../shape'
import type { Drawing, Layer, Standing } from './layer'
import { drawOutlines } from './strokes'

const dotRadius = 4 // CSS pixels
const reach = 7 // CSS pixels from a line at which it is still hit
const lift = 4 // CSS pixels

/** ShapeLayer draws the areas and paths: all of them on the base, and the raised ones once more above it. */
export class ShapeLayer implements Layer {
  constructor(
    private readonly camera: Camera,
    private readonly scene: Scene,
  ) {}

  draw(d: Drawing): void {
    for (const s of this.scene.shapes) drawShape(d, s, false)
  }

  /** The layer of what is raised. */
  readonly raised: Layer = {
    draw: (d) => {
      for (const key of d.raised) {
        const s = this.shape(key)
        if (s) drawShape(d, s, true)
      }
    },
    hit: (at) => this.hit(at),
    describe: (key) => this.describe(key),
  }

  hit(at: ScreenPoint): Placed | null {
    const p = this.camera.toMap(at)
    const near = reach / this.camera.scale
    const found = this.scene.shapes.findLast((s) => isAt(s, p, near))
    return found ? markerOf(found, unproject(p)) : null
  }

  describe(key: string): Standing | null {
    const s = this.shape(key)
    return s ? { placed: markerOf(s), lift } : null
  }

  private shape(key: string): PlacedShape | null {
    const found = this.scene.get(key)
    return found && 'shape' in found ? found : null
  }
}

function drawShape(d: Drawing, s: PlacedShape, raised: boolean): void {
  const { context, camera, paint } = d
  context.lineJoin = 'round'
  context.lineCap = 'round'
  const rings = s.areas.flat()
  if (rings.length + s.lines.length > 0) drawOutlines(context, camera, s.look, rings, s.lines, paint, raised)
  for (const dot of s.dots) {
    const at = camera.toScreen(dot)
    context.beginPath()
    context.arc(at.x, at.y, dotRadius, 0, 2 * Math.PI)
    context.fillStyle = paint.dark ? onDark(s.look.colour) : s.look.colour
    context.fill()
    context.strokeStyle = raised ? paint.focus : paint.paper
    context.lineWidth = raised ? 3 : 1.5
    context.stroke()
  }
  context.lineCap = 'butt'
}
