import { stepOf } from '../camera'
import type { MarkerSource } from '../feed'
import { type Position, project, unwrapped } from '../projection'
import type { Placed } from '../placed'
import { flat, type Line } from '../shape'
import type { Drawing, Layer } from './layer'
import { trace } from './strokes'

const wait = 120 // ms that a cluster must be pointed at before its outline is fetched

/** ClusterOutline shows the area that the places of a cluster cover, while it is pointed at or has the focus. */
export class ClusterOutline implements Layer {
  private wanted: string | null = null // the key of the cluster
  private rings: Line[] = []
  private request: AbortController | null = null
  private timer = 0

  constructor(private readonly onChange: () => void) {}

  stop(): void {
    clearTimeout(this.timer)
    this.request?.abort()
    this.wanted = null
    this.rings = []
  }

  /** Shows the outline of a cluster of a source at a zoom, or none. */
  show(placed: Placed | null, source: MarkerSource | undefined, zoom: number): void {
    const key = placed && placed.marker.count > 1 ? placed.key : null
    if (key === this.wanted) return
    const had = this.rings.length > 0
    this.stop()
    this.wanted = key
    if (had) this.onChange()
    if (!key || !placed || !source?.outline) return
    const request = (this.request = new AbortController())
    this.timer = window.setTimeout(() => {
      source.outline?.(placed.marker, stepOf(zoom), request.signal).then(
        (rings: Position[][]) => {
          if (request.signal.aborted) return
          this.rings = rings.map((ring) => flat(unwrapped(ring.map(project))))
          this.onChange()
        },
        () => {}, // without it the map is still right
      )
    }, wait)
  }

  draw({ context, camera, paint }: Drawing): void {
    if (this.rings.length === 0) return
    context.beginPath()
    for (const ring of this.rings) trace(context, camera, ring, true)
    context.globalAlpha = 0.14
    context.fillStyle = paint.focus
    context.fill()
    context.globalAlpha = 1
    context.strokeStyle = paint.focus
    context.lineWidth = 1.5
    context.lineJoin = 'round'
    context.setLineDash([6, 4])
    context.stroke()
    context.setLineDash([])
  }
}
