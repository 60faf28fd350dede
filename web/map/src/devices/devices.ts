import type { Camera, ScreenPoint } from '../camera'
import { lessMotion } from '../flight'
import type { FrameLoop } from '../frames'
import { BoxGrid, type ScreenBox } from '../grid'
import type { Drawing, OwnLayer, Standing } from '../layers/layer'
import { countText } from '../layers/pictures'
import type { Paint } from '../paint'
import type { Placed } from '../placed'
import { type MapPoint, type Position, project, shortWay } from '../projection'
import { Glide } from './glide'

const ring = 10 // CSS pixels, the radius of a device's ring
const thickest = 3 // CSS pixels, the ring of a device that has just reported
const thinnest = 0.8
const tip = 18 // CSS pixels from the middle to the point of a wedge
const reach = 40 // CSS pixels beyond the screen at which a device may still show
const badgeHeight = 26
const slop = 4
const equator = 2 * Math.PI * 6_371_008.8 // metres
const trailFor = 5 * 60_000 // ms
const mostTrails = 400 // devices of which the way is kept
const mostLabels = 60 // devices in view with their names
const agesEvery = 5000 // ms between drawings for the sake of rings

/** A track that is drawn below the devices: lines of positions. */
export interface Trail {
  lines: readonly (readonly Position[])[]
  colour: string
}

interface Step extends MapPoint {
  time: number
}

/** A device, or a cluster, on the screen. */
interface Seen {
  glide: Glide
  at: ScreenPoint // where it is drawn
  spot: ScreenPoint // where it is
}

/**
 * Devices draws the devices of a source: a wedge along the heading of one that moves, a disc for one that is still, and
 * a hollow ring for one that is silent. The ring around it thins as its last report ages. They glide from one report to
 * the next, and stop at the last.
 */
export class Devices implements OwnLayer {
  /** For how long a device may say nothing until it is silent, in ms, by its layer. */
  silentAfter: (layer: string) => number = () => 300_000
  /** By how many ms the clock of the service is ahead of this one. */
  clockAhead = 0
  /** In how many ms devices go from one position to the next; null for as long as they took. */
  pace: number | null = null
  /** Whether the ways of the last minutes are drawn. */
  trails = true
  /** Whether circles show how accurate positions are. */
  circles = false
  /** Whether names are drawn, if there are not too many. */
  names = true
  /** A track that is drawn in the whole; null for none. */
  track: Trail | null = null

  private glides = new Map<string, Glide>()
  private ways = new Map<string, Step[]>() // where devices were in the last minutes, by their keys
  private grid: BoxGrid | null = null
  private loop: FrameLoop | null = null
  private onScreen: Seen[] = []
  private readonly advance = (now: number) => this.moveOn(now)
  private timer = 0

  /** Calls told with where a device is seen, whenever that changes; null for none. */
  following: { key: string; told: (at: MapPoint) => void } | null = null

  show(markers: readonly Placed[], loop: FrameLoop): void {
    this.loop = loop
    const now = performance.now()
    const still = lessMotion()
    const next = new Map<string, Glide>()
    let moving = false
    for (const p of markers) {
      const glide = this.glides.get(p.key) ?? new Glide(p)
      glide.go(p, now, still || p.marker.count > 1, this.pace)
      moving ||= glide.running
      next.set(p.key, glide)
      this.note(p)
    }
    this.glides = next
    if (moving) loop.run(this.advance)
    this.tellFollower()
    window.clearInterval(this.timer)
    if (next.size > 0) this.timer = window.setInterval(() => loop.ask(), agesEvery)
  }

  /** Ends what goes on by itself. */
  stop(): void {
    window.clearInterval(this.timer)
    this.loop?.end(this.advance)
  }

  /** Draws again, as when what is to be drawn was changed. */
  redraw(): void {
    this.loop?.ask()
  }

  /** Where a device is seen now, by the key of its marker in the source; null if it is not. */
  whereIs(key: string): MapPoint | null {
    return [...this.glides.values()].find((g) => g.placed.marker.key === key) ?? null
  }

  draw(d: Drawing): void {
    const { camera } = d
    this.grid = null
    this.onScreen = []
    for (const glide of this.glides.values()) {
      const at = camera.toScreen(glide)
      if (at.x < -reach || at.y < -reach || at.x > camera.width + reach || at.y > camera.height + reach) continue
      this.onScreen.push({ glide, at, spot: at })
    }
    this.onScreen.sort((a, b) => a.at.y - b.at.y)
    this.giveWay(d.taken())
    if (this.track) this.drawTrack(d, this.track)
    if (this.trails) for (const { glide } of this.onScreen) this.drawWay(d, glide)
    for (const { glide, at, spot } of this.onScreen) {
      const { placed } = glide
      if (placed.marker.count > 1) this.drawCluster(d, placed, at, spot)
      else {
        if (this.circles) this.drawAccuracy(d, placed, at)
        this.drawDevice(d, placed, at)
      }
      if (d.raised.has(placed.key)) this.drawRaised(d, placed, at)
    }
    if (this.names) this.drawNames(d)
  }

  hit(at: ScreenPoint): Placed | null {
    const i = this.boxes().topmost(at.x, at.y, slop)
    return this.onScreen[i]?.glide.placed ?? null
  }

  describe(key: string): Standing | null {
    const glide = this.glides.get(key)
    if (!glide) return null
    const lift = glide.placed.marker.count > 1 ? badgeHeight / 2 : tip
    return { placed: { ...glide.placed, x: glide.x, y: glide.y }, lift }
  }

  /** Has clusters that lie on markers of places stand beside them, if there is room close by. */
  private giveWay(taken: BoxGrid): void {
    const mine = new BoxGrid()
    for (const seen of this.onScreen) {
      const { placed } = seen.glide
      if (placed.marker.count > 1) {
        const free = (at: ScreenPoint) => {
          const b = this.boxOf(placed, at)
          return !taken.taken(b) && !mine.taken(b)
        }
        const { x, y } = seen.spot
        const at = asides.map(([dx, dy]) => ({ x: x + dx, y: y + dy })).find(free)
        if (at) seen.at = at
      }
      mine.add(this.boxOf(placed, seen.at), 0)
    }
  }

  private moveOn(now: number): boolean {
    let moving = false
    for (const glide of this.glides.values()) moving = glide.advance(now) || moving
    this.tellFollower()
    return moving
  }

  /** Tells who follows a device where it is seen. */
  tellFollower(): void {
    const at = this.following && this.whereIs(this.following.key)
    if (at) this.following?.told(at)
  }

  /** Notes where a device was, for its trail. */
  private note(p: Placed): void {
    const sight = p.marker.device
    if (!sight || (this.ways.size >= mostTrails && !this.ways.has(p.key))) return
    const way = this.ways.get(p.key) ?? []
    const last = way.at(-1)
    if (last && sight.time <= last.time) return
    if (sight.hopped) way.length = 0
    way.push({ x: p.x, y: p.y, time: sight.time })
    while (way.length > 0 && (way[0]?.time ?? 0) < sight.time - trailFor) way.shift()
    this.ways.set(p.key, way)
  }

  private drawWay({ context, camera }: Drawing, glide: Glide): void {
    const way = this.ways.get(glide.placed.key)
    if (!way || way.length < 2 || glide.placed.marker.device?.state === 'silent') return
    // The last of it has been reported, and is still to be seen.
    const seen = glide.running ? way.slice(0, -1) : way
    context.strokeStyle = glide.placed.look.colour
    context.lineWidth = 2.5
    context.lineCap = 'round'
    const newest = way.at(-1)?.time ?? 0
    const steps: readonly MapPoint[] = [...seen, glide]
    for (let i = 1; i < steps.length; i++) {
      const [a, b] = [steps[i - 1], steps[i]]
      if (!a || !b) continue
      const age = newest - ((b as Partial<Step>).time ?? newest)
      context.globalAlpha = 0.55 * (1 - age / trailFor)
      line(context, camera, [a, b])
    }
    context.globalAlpha = 1
    context.lineCap = 'butt'
  }

  private drawTrack({ context, camera, paint }: Drawing, track: Trail): void {
    context.lineJoin = context.lineCap = 'round'
    for (const [colour, width] of [
      [paint.paper, 5],
      [track.colour, 2.5],
    ] as const) {
      context.strokeStyle = colour
      context.lineWidth = width
      for (const positions of track.lines) line(context, camera, positions.map(project))
    }
    context.lineCap = 'butt'
  }

  private drawAccuracy({ context, camera }: Drawing, p: Placed, at: ScreenPoint): void {
    const metres = p.marker.device?.accuracy
    if (metres === undefined) return
    const across = equator * Math.cos((p.marker.at.lat * Math.PI) / 180) // metres round the world there
    const radius = (metres / across) * camera.scale
    if (radius < ring + 4) return
    context.beginPath()
    context.arc(at.x, at.y, radius, 0, 2 * Math.PI)
    context.fillStyle = context.strokeStyle = p.look.colour
    context.globalAlpha = 0.15
    context.fill()
    context.globalAlpha = 0.6
    context.lineWidth = 1
    context.stroke()
    context.globalAlpha = 1
  }

  private drawDevice({ context, paint }: Drawing, p: Placed, at: ScreenPoint): void {
    const sight = p.marker.device
    if (!sight) return
    const silent = sight.state === 'silent'
    const age = Date.now() + this.clockAhead - sight.time
    const left = Math.max(0, Math.min(1, 1 - age / this.silentAfter(p.marker.layer ?? '')))
    const colour = silent ? quiet(paint) : p.look.colour
    context.save()
    context.translate(at.x, at.y)
    context.lineJoin = 'round'
    // Paper below all of it, so that it stands out from whatever is there.
    context.beginPath()
    context.arc(0, 0, ring + 3, 0, 2 * Math.PI)
    context.fillStyle = paint.paper
    context.globalAlpha = 0.85
    context.fill()
    context.globalAlpha = 1
    context.beginPath()
    context.arc(0, 0, ring, 0, 2 * Math.PI)
    context.strokeStyle = colour
    context.lineWidth = silent ? 1.5 : thinnest + (thickest - thinnest) * left
    if (silent) context.setLineDash([3, 3])
    context.stroke()
    context.setLineDash([])
    context.fillStyle = colour
    if (sight.state === 'moving' && sight.heading !== undefined) this.wedge(context, sight.heading, paint)
    else if (!silent) {
      context.beginPath()
      context.arc(0, 0, sight.state === 'moving' ? 5.5 : 4, 0, 2 * Math.PI)
      context.fill()
    }
    context.restore()
  }

  /** A wedge whose point is beyond the ring, and whose back is notched. */
  private wedge(context: CanvasRenderingContext2D, heading: number, paint: Paint): void {
    context.rotate((heading * Math.PI) / 180)
    context.beginPath()
    context.moveTo(0, -tip)
    context.lineTo(5.5, 5)
    context.lineTo(0, 2)
    context.lineTo(-5.5, 5)
    context.closePath()
    context.strokeStyle = paint.paper
    context.lineWidth = 2
    context.stroke()
    context.fill()
  }

  private drawCluster(d: Drawing, p: Placed, at: ScreenPoint, spot: ScreenPoint): void {
    const { context, paint } = d
    const b = this.boxOf(p, at)
    if (at !== spot) {
      // As far as the marker of places that stands there.
      const far = Math.hypot(spot.x - at.x, spot.y - at.y)
      const share = Math.max(0, 1 - 13 / far)
      context.beginPath()
      context.moveTo(at.x, at.y)
      context.lineTo(at.x + (spot.x - at.x) * share, at.y + (spot.y - at.y) * share)
      context.strokeStyle = paint.ink
      context.lineWidth = 1.5
      context.stroke()
    }
    context.beginPath()
    context.roundRect(b.left, b.top, b.width, b.height, badgeHeight / 2)
    context.fillStyle = paint.paper
    context.fill()
    context.strokeStyle = paint.edge
    context.lineWidth = 1
    context.stroke()
    context.fillStyle = paint.ink
    context.font = badgeFont
    context.textAlign = 'center'
    context.textBaseline = 'middle'
    context.fillText(countText(p.marker.count), at.x, at.y - 2)
    let x = b.left + 9
    const room = b.width - 18
    for (const [state, count, layer] of p.marker.tally) {
      const width = (room * count) / p.marker.count
      const look = (layer !== undefined && p.drawn.layers?.get(layer)) || p.looks
      context.fillStyle = state === 'silent' ? quiet(paint) : look.of(state).colour
      context.globalAlpha = state === 'still' ? 0.55 : 1
      context.fillRect(x, b.top + b.height - 7, width, 3.5)
      x += width
    }
    context.globalAlpha = 1
    context.textAlign = 'start'
    context.textBaseline = 'alphabetic'
  }

  private drawRaised({ context, paint }: Drawing, p: Placed, at: ScreenPoint): void {
    const b = this.boxOf(p, at)
    context.strokeStyle = paint.focus
    context.lineWidth = 3
    context.beginPath()
    context.roundRect(b.left - 3, b.top - 3, b.width + 6, b.height + 6, p.marker.count > 1 ? 16 : 20)
    context.stroke()
  }

  private drawNames({ context, paint, camera, taken: places }: Drawing): void {
    const named = this.onScreen.filter(({ glide }) => glide.placed.marker.count === 1)
    if (named.length > mostLabels) return
    const written = new BoxGrid()
    context.font = '12px system-ui, sans-serif'
    context.textBaseline = 'middle'
    context.lineJoin = 'round'
    const taken = this.boxes()
    const others = places()
    for (const { glide, at } of named) {
      const text = glide.placed.marker.name || glide.placed.marker.id
      const width = context.measureText(text).width
      const box = [
        { left: at.x + ring + 6, top: at.y - 8, width, height: 16 },
        { left: at.x - ring - 6 - width, top: at.y - 8, width, height: 16 },
      ].find(
        (b) =>
          b.left >= 0 && b.left + b.width <= camera.width && !taken.taken(b) && !others.taken(b) && !written.taken(b),
      )
      if (!box) continue
      written.add(box, 0)
      context.strokeStyle = paint.paper
      context.lineWidth = 3
      context.strokeText(text, box.left, at.y)
      context.fillStyle = paint.ink
      context.fillText(text, box.left, at.y)
    }
    context.textBaseline = 'alphabetic'
  }

  private boxOf(p: Placed, at: ScreenPoint): ScreenBox {
    if (p.marker.count === 1) return { left: at.x - 12, top: at.y - 12, width: 24, height: 24 }
    const width = 26 + 8 * countText(p.marker.count).length
    return { left: at.x - width / 2, top: at.y - badgeHeight / 2, width, height: badgeHeight }
  }

  private boxes(): BoxGrid {
    if (this.grid) return this.grid
    const grid = (this.grid = new BoxGrid())
    this.onScreen.forEach(({ glide, at }, i) => grid.add(this.boxOf(glide.placed, at), i))
    return grid
  }
}

// Where a cluster may stand instead of its spot, in CSS pixels, the nearest first.
const asides: readonly (readonly [number, number])[] = [
  [0, 0],
  [0, -28],
  [0, 28],
  [34, 0],
  [-34, 0],
  [30, -26],
  [-30, -26],
  [30, 26],
  [-30, 26],
  [46, 0],
  [-46, 0],
  [0, -42],
  [0, 42],
]

const badgeFont = '600 13px system-ui, sans-serif'

/** The colour of what says nothing any more. */
const quiet = (paint: Paint) => (paint.dark ? '#98a3ae' : '#6b7681')

/** Strokes a line on the map, the short way round the world at each step. */
function line(context: CanvasRenderingContext2D, camera: Camera, points: readonly MapPoint[]): void {
  const first = points[0]
  if (!first) return
  const start = camera.toScreen(first)
  let { x } = start
  let last = first
  context.beginPath()
  context.moveTo(start.x, start.y)
  for (const p of points.slice(1)) {
    x += shortWay(last.x, p.x) * camera.scale
    context.lineTo(x, start.y + (p.y - first.y) * camera.scale)
    last = p
  }
  context.stroke()
}
