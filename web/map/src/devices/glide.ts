import { type MapPoint, shortWay } from '../projection'
import type { Placed } from '../placed'

const shortest = 250 // ms
const longest = 6000 // ms: who reports less often is where it was said to be, most of the time
const farthest = 0.02 // of the width of the world, at which nobody glides

/** Glide has a device go from where it is seen to where it was reported, and stop there. */
export class Glide implements MapPoint {
  x: number
  y: number
  private from: MapPoint
  private to: Placed
  private began = 0
  private length = 0

  constructor(placed: Placed) {
    this.x = placed.x
    this.y = placed.y
    this.from = { x: placed.x, y: placed.y }
    this.to = placed
  }

  get placed(): Placed {
    return this.to
  }

  /** Whether it is under way. */
  get running(): boolean {
    return this.length > 0
  }

  /** Goes on to a new position, in about the time that the device took; at once if it must not be seen to move. */
  go(to: Placed, now: number, still: boolean, pace: number | null): void {
    const before = this.to
    this.to = to
    const took = (to.marker.device?.time ?? 0) - (before.marker.device?.time ?? 0)
    if (took === 0 && to.x === before.x && to.y === before.y) return
    const far = Math.hypot(shortWay(this.x, to.x), to.y - this.y)
    if (still || to.marker.device?.hopped || took <= 0 || far > farthest) {
      this.stand()
      return
    }
    this.from = { x: this.x, y: this.y }
    this.began = now
    this.length = pace ?? Math.min(longest, Math.max(shortest, took))
  }

  /** Moves on to a time in ms, and returns whether it goes on. */
  advance(now: number): boolean {
    if (!this.running) return false
    const t = (now - this.began) / this.length
    if (t >= 1) {
      this.stand()
      return false
    }
    const share = Math.max(0, t)
    this.x = this.from.x + shortWay(this.from.x, this.to.x) * share
    this.y = this.from.y + (this.to.y - this.from.y) * share
    return true
  }

  private stand(): void {
    this.length = 0
    this.x = this.to.x
    this.y = this.to.y
  }
}
