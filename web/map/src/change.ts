import { keyOf, type PlacedMarker } from './markers'
import { type Box, type MapPoint, shortWay } from './projection'

const duration = 280 // ms

/** A marker on its way: where it is now, and how much of it is to be seen, 0 to 1. */
export interface Moving {
  placed: PlacedMarker
  map: MapPoint
  opacity: number
}

/**
 * MarkerChange shows how one set of markers becomes another: what a cluster splits into comes out of it, what joins one
 * goes into it. A marker that stands for the same places stays, and moves to where it stands now.
 */
export class MarkerChange {
  private started = 0
  private from = new Map<string, MapPoint>() // where markers come from, by key
  private fading = new Set<string>() // markers that appear, by key
  private leaving: { placed: PlacedMarker; to: MapPoint }[] = []

  get running(): boolean {
    return this.started > 0
  }

  stop(): void {
    this.started = 0
    this.from.clear()
    this.fading.clear()
    this.leaving = []
  }

  /** Begins to turn the old markers into the new ones. */
  begin(old: readonly PlacedMarker[], now: readonly PlacedMarker[]): void {
    this.stop()
    const before = new Map(old.map((p) => [keyOf(p), p]))
    const after = new Set(now.map(keyOf))
    const gone = old.filter((p) => !after.has(keyOf(p)))
    const come = now.filter((p) => !before.has(keyOf(p)))
    if (old.length === 0 || (gone.length === 0 && come.length === 0)) return
    for (const p of now) {
      const was = before.get(keyOf(p))
      if (was && (was.map.x !== p.map.x || was.map.y !== p.map.y)) this.from.set(keyOf(p), was.map)
    }
    for (const p of come) {
      const parent = around(p, gone)
      if (!parent) continue
      this.from.set(keyOf(p), parent.map)
      this.fading.add(keyOf(p))
    }
    for (const p of gone) {
      const heir = around(p, come)
      if (heir) this.leaving.push({ placed: p, to: heir.map })
    }
    if (this.from.size > 0 || this.leaving.length > 0) this.started = performance.now()
  }

  /** Where the markers are now. When all have arrived the change stops by itself. */
  frame(markers: readonly PlacedMarker[]): Moving[] {
    const t = this.running ? Math.min(1, (performance.now() - this.started) / duration) : 1
    if (t >= 1) {
      this.stop()
      return markers.map((placed) => ({ placed, map: placed.map, opacity: 1 }))
    }
    const eased = 1 - (1 - t) ** 3
    const between = (a: MapPoint, b: MapPoint): MapPoint => ({
      x: a.x + shortWay(a.x, b.x) * eased,
      y: a.y + (b.y - a.y) * eased,
    })
    const leaving = this.leaving.map(({ placed, to }) => ({ placed, map: between(placed.map, to), opacity: 1 - eased }))
    return leaving.concat(
      markers.map((placed) => {
        const from = this.from.get(keyOf(placed))
        return {
          placed,
          map: from ? between(from, placed.map) : placed.map,
          opacity: this.fading.has(keyOf(placed)) ? eased : 1,
        }
      }),
    )
  }
}

/** The nearest cluster of the same source that covers a marker. */
function around(p: PlacedMarker, others: readonly PlacedMarker[]): PlacedMarker | null {
  let best: PlacedMarker | null = null
  let least = Infinity
  for (const o of others) {
    if (o.source !== p.source || o.marker.count <= p.marker.count || !o.marker.extent || !holds(o.marker.extent, p))
      continue
    const d = Math.hypot(shortWay(o.map.x, p.map.x), o.map.y - p.map.y)
    if (d < least) {
      best = o
      least = d
    }
  }
  return best
}

function holds(box: Box, p: PlacedMarker): boolean {
  const { lon, lat } = p.marker.at
  if (lat < box.south || lat > box.north) return false
  return box.west > box.east ? lon >= box.west || lon <= box.east : lon >= box.west && lon <= box.east
}
