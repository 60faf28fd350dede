import { inBox } from '../camera'
import { shortWay } from '../projection'
import type { Placed } from '../placed'

const duration = 280 // ms

/**
 * Transition shows how one set of markers becomes another: what a cluster splits into comes out of it, what joins one
 * goes into it. A marker that stands for the same places stays, and moves to where it stands now.
 */
export class Transition {
  /** The markers to draw, the lowest first: those that leave, then those that stay or come. */
  items: readonly Placed[] = []
  /** If they are on the map now: x, y of each. */
  at = new Float64Array()
  /** How much of each is to be seen, 0 to 1. */
  opacity = new Float32Array()
  private now: readonly Placed[] = []
  private from = new Float64Array()
  private to = new Float64Array()
  private fade = new Int8Array() // 1 for one that comes, -1 for one that leaves
  private started = -1 // ms; negative while nothing moves

  get running(): boolean {
    return this.started >= 0
  }

  /** Shows markers where they stand, at once. */
  stand(now: readonly Placed[]): void {
    this.started = -1
    this.now = this.items = now
    this.at = positions(now)
    this.opacity = new Float32Array(now.length).fill(1)
  }

  /** Begins to turn what was there into the new markers. It returns whether there is something to see of it. */
  begin(now: readonly Placed[], time: number): boolean {
    const old = this.now
    const before = new Map(old.map((p) => [p.key, p]))
    const after = new Set(now.map((p) => p.key))
    const gone = old.filter((p) => !after.has(p.key))
    const come = now.filter((p) => !before.has(p.key))
    const moved = now.some((p) => {
      const was = before.get(p.key)
      return was !== undefined && (was.x !== p.x || was.y !== p.y)
    })
    this.stand(now)
    if (old.length === 0 || (gone.length === 0 && come.length === 0 && !moved)) return false
    const heirs = gone.flatMap((p) => {
      const heir = nearestHolder(p, come)
      return heir ? [{ placed: p, heir }] : []
    })
    const n = heirs.length
    const items = [...heirs.map(({ placed }) => placed), ...now]
    const to = positions(items)
    const from = to.slice()
    const fade = new Int8Array(items.length)
    heirs.forEach(({ heir }, i) => {
      to[2 * i] = heir.x
      to[2 * i + 1] = heir.y
      fade[i] = -1
    })
    let anything = n > 0
    now.forEach((p, k) => {
      const i = n + k
      const was = before.get(p.key)
      const parent = was ?? nearestHolder(p, gone)
      if (!parent || (parent.x === p.x && parent.y === p.y)) return
      from[2 * i] = parent.x
      from[2 * i + 1] = parent.y
      if (!was) fade[i] = 1
      anything = true
    })
    if (!anything) return false
    this.items = items
    this.from = from
    this.to = to
    this.fade = fade
    this.at = new Float64Array(2 * items.length)
    this.opacity = new Float32Array(items.length)
    this.started = time
    this.advance(time)
    return true
  }

  /** Moves the markers on to a time in ms, and returns whether some are still under way. */
  advance(time: number): boolean {
    if (!this.running) return false
    const t = Math.min(1, Math.max(0, (time - this.started) / duration))
    if (t >= 1) {
      this.stand(this.now)
      return false
    }
    const eased = 1 - (1 - t) ** 3
    for (let i = 0; i < this.items.length; i++) {
      const [fx = 0, fy = 0] = [this.from[2 * i], this.from[2 * i + 1]]
      this.at[2 * i] = fx + shortWay(fx, this.to[2 * i] ?? 0) * eased
      this.at[2 * i + 1] = fy + ((this.to[2 * i + 1] ?? 0) - fy) * eased
      const fade = this.fade[i] ?? 0
      this.opacity[i] = fade > 0 ? eased : fade < 0 ? 1 - eased : 1
    }
    return true
  }
}

function positions(all: readonly Placed[]): Float64Array<ArrayBuffer> {
  const at = new Float64Array(2 * all.length)
  all.forEach((p, i) => {
    at[2 * i] = p.x
    at[2 * i + 1] = p.y
  })
  return at
}

/** The nearest cluster of the same source that covers a marker. */
function nearestHolder(p: Placed, others: readonly Placed[]): Placed | null {
  let best: Placed | null = null
  let least = Infinity
  for (const o of others) {
    const { extent, count } = o.marker
    if (o.source !== p.source || count <= p.marker.count || !extent || !inBox(extent, p.marker.at)) continue
    const d = Math.hypot(shortWay(o.x, p.x), o.y - p.y)
    if (d < least) {
      best = o
      least = d
    }
  }
  return best
}
