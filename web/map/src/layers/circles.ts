import type { Placed } from '../placed'
import type { Scene } from '../scene'
import { circleAround, type Line } from '../shape'
import type { Drawing, Layer } from './layer'
import { drawOutlines } from './strokes'

const leastRadius = 3 // CSS pixels: a smaller circle is not drawn

/** CircleLayer draws the circles of places that have one, true to scale: all on the base, the raised ones above it. */
export class CircleLayer implements Layer {
  private readonly rings = new WeakMap<Placed, Line | 'none'>()

  private markers: readonly Placed[] = [] // of which some have rings
  private ringed: readonly Placed[] = []

  constructor(private readonly scene: Scene) {}

  draw(d: Drawing): void {
    const { markers } = this.scene
    if (markers !== this.markers) {
      this.markers = markers
      this.ringed = markers.filter((p) => this.ring(p))
    }
    for (const p of this.ringed) this.drawCircle(d, p, false)
  }

  /** The layer of what is raised. */
  readonly raised: Layer = {
    draw: (d) => {
      for (const key of d.raised) {
        const p = this.scene.marker(key)
        if (p) this.drawCircle(d, p, true)
      }
    },
  }

  private drawCircle(d: Drawing, p: Placed, raised: boolean): void {
    const ring = this.ring(p)
    if (!ring || Math.abs((ring[1] ?? 0) - p.y) * d.camera.scale < leastRadius) return
    d.context.lineJoin = 'round'
    drawOutlines(d.context, d.camera, p.look, [ring], [], d.paint, raised)
  }

  private ring(p: Placed): Line | null {
    if (p.marker.kind !== 'place') return null
    let ring = this.rings.get(p)
    if (!ring) {
      const metres = p.looks.style.circle?.metres ?? p.marker.drawing.radius
      ring = metres ? circleAround(p.marker.at, metres) : 'none'
      this.rings.set(p, ring)
    }
    return ring === 'none' ? null : ring
  }
}
