import type { Camera, View } from './camera'
import type { FrameLoop, Motion } from './frames'
import { type MapPoint, project, shortWay } from './projection'

const shortest = 250 // ms
const longest = 700

/** Whether the user asked for less motion. */
export function lessMotion(): boolean {
  return matchMedia('(prefers-reduced-motion: reduce)').matches
}

/** Flight moves a camera to another view in one smooth motion, or at once if the user asked for less motion. */
export class Flight {
  private motion: Motion | null = null

  constructor(
    private readonly camera: Camera,
    private readonly loop: FrameLoop,
    private readonly onMove: () => void,
    private readonly onEnd: () => void,
  ) {}

  stop(): void {
    if (this.motion) this.loop.end(this.motion)
    this.motion = null
  }

  to(view: View): void {
    this.stop()
    const from = { centre: this.camera.centre, zoom: this.camera.zoom }
    const target = project(view.centre)
    const zoom = Math.max(this.camera.minZoom, view.zoom)
    const dx = shortWay(from.centre.x, target.x)
    const dy = target.y - from.centre.y
    const screens = (Math.hypot(dx, dy) * this.camera.scale) / Math.max(this.camera.width, this.camera.height)
    if (lessMotion() || (screens > 4 && Math.abs(zoom - from.zoom) < 1)) {
      this.camera.place(target, zoom)
      this.onMove()
      this.onEnd()
      return
    }
    const duration = Math.min(longest, shortest + 120 * Math.abs(zoom - from.zoom) + 100 * Math.min(2, screens))
    let started = 0
    this.motion = (now) => {
      started ||= now
      const t = Math.min(1, (now - started) / duration)
      const eased = t * t * (3 - 2 * t)
      const z = from.zoom + (zoom - from.zoom) * eased
      const share = travelled(z - from.zoom, zoom - from.zoom, eased)
      const at: MapPoint = { x: from.centre.x + dx * share, y: from.centre.y + dy * share }
      this.camera.place(at, z)
      this.onMove()
      if (t < 1) return true
      this.motion = null
      this.onEnd()
      return false
    }
    this.loop.run(this.motion)
  }
}

/** The share of the way to go when a part of the zooming is done, so that one spot of the screen stays where it is. */
function travelled(zoomed: number, whole: number, eased: number): number {
  if (Math.abs(whole) < 1e-6) return eased
  return (1 - 2 ** -zoomed) / (1 - 2 ** -whole)
}
