import type { Camera, ScreenPoint } from '../camera'
import { lessMotion } from '../flight'
import type { FrameLoop } from '../frames'
import { BoxGrid, type ScreenBox } from '../grid'
import type { Drawing, OwnLayer, Standing } from '../layers/layer'
import { countText, snapped } from '../layers/pictures'
import type { Paint } from '../paint'
import type { Placed } from '../placed'
import { type MapPoint, type Position, project, shortWay } from '../projection'
import { Glide } from './glide'
import { DevicePictures, type Picture, ring, tip, widthOf } from './pictures'

const reach = 40 // CSS pixels beyond the screen at which a device may still show
const badgeHeight = 26
const slop = 4
const equator = 2 * Math.PI * 6_371_008.8 // metres
const trailFor = 5 * 60_000 // ms
const mostKept = 1000 // devices of which the way is kept
const mostTrails = 400 // devices in view with their ways
const oftenest = 1000 // ms between two steps of a way
const mostLabels = 60 // devices in view with their names
const fades = 5 // how many ages of ways are told apart
const leastStep = 2 // CSS pixels between two corners of a way
const agesEvery = 5000 // ms between drawings for the sake of rings

/** A track that is drawn below the devices: lines of positions. */
export interface Trail {
  lines: readonly (readonly Position[])[]
  colour: string
}

interface Step extends MapPoint {
  time: number
}

/** What a device was drawn with, and why. */
interface Drawn {
  placed: Placed
  width: number // of its ring
  epoch: number // of the pictures
  picture: Picture
}

/** A device, or a cluster, on the screen. */
interface Seen {
  glide: Glide
  x: number // where that was on the map
  y: number
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
  private fromNorth: Glide[] = [] // the same in the order in which they are drawn, as far as they were
  private ways = new Map<string, Step[]>() // where devices were in the last minutes, by their keys
  private readonly pictures = new DevicePictures()
  private readonly drawn = new WeakMap<Glide, Drawn>()
  private readonly patience = new Map<string, number>() // silentAfter by layer, as of this drawing
  private grid: BoxGrid | null = null
  private loop: FrameLoop | null = null
  private onScreen: Seen[] = []
  private halfPixel = 0 // on the map
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
    this.fromNorth = [...next.values()]
    if (this.ways.size >= mostKept) for (const key of this.ways.keys()) if (!next.has(key)) this.ways.delete(key)
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
    this.halfPixel = 0.5 / (camera.scale * d.density)
    const { width, height, scale, centre } = camera
    this.fromNorth.sort((a, b) => a.y - b.y) // which takes little of what is in order, as it mostly is
    for (const glide of this.fromNorth) {
      const y = height / 2 + (glide.y - centre.y) * scale
      if (y < -reach || y > height + reach) continue
      const x = width / 2 + shortWay(centre.x, glide.x) * scale
      if (x < -reach || x > width + reach) continue
      const at = { x, y }
      this.onScreen.push({ glide, x: glide.x, y: glide.y, at, spot: at })
    }
    if (this.onScreen.some(({ glide }) => glide.placed.marker.count > 1)) this.giveWay(d.taken())
    if (this.track) this.drawTrack(d, this.track)
    if (this.trails && this.onScreen.length <= mostTrails) this.drawWays(d)
    const now = Date.now() + this.clockAhead
    this.patience.clear()
    this.pictures.begin(d)
    for (const { glide, at, spot } of this.onScreen) {
      const { placed } = glide
      if (placed.marker.count > 1) this.drawCluster(d, placed, at, spot)
      else {
        if (this.circles) this.drawAccuracy(d, placed, at)
        this.drawDevice(d, glide, at, now)
      }
      if (d.raised.size > 0 && d.raised.has(placed.key)) this.drawRaised(d, placed, at)
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

  private moveOn(now: number): boolean | 'unseen' {
    let moving = false
    for (const glide of this.glides.values()) moving = glide.advance(now) || moving
    this.tellFollower()
    return moving && !this.onScreen.some(({ glide, x, y }) => this.far(glide.x - x) || this.far(glide.y - y))
      ? 'unseen'
      : moving
  }

  /** Whether a way on the map can be seen as it was drawn last: that it is half a pixel long. */
  private far(way: number): boolean {
    return Math.abs(way) > this.halfPixel
  }

  /** Tells who follows a device where it is seen. */
  tellFollower(): void {
    const at = this.following && this.whereIs(this.following.key)
    if (at) this.following?.told(at)
  }

  /** Notes where a device was, for its trail. */
  private note(p: Placed): void {
    const sight = p.marker.device
    if (!sight || (this.ways.size >= mostKept && !this.ways.has(p.key))) return
    const way = this.ways.get(p.key) ?? []
    const last = way.at(-1)
    if (last && sight.time <= last.time) return
    if (sight.hopped) way.length = 0
    if (sight.time - (way.at(-2)?.time ?? -Infinity) < oftenest) way.pop()
    way.push({ x: p.x, y: p.y, time: sight.time })
    while (way.length > 0 && (way[0]?.time ?? 0) < sight.time - trailFor) way.shift()
    this.ways.set(p.key, way)
  }

  /** Draws the ways of the devices on the screen, the older the fainter: those of a colour and an age in one stroke. */
  private drawWays({ context, camera }: Drawing): void {
    const paths = new Map<string, (Path2D | undefined)[]>() // by colour and by age
    const { scale } = camera
    const least = leastStep / scale
    for (const { glide } of this.onScreen) {
      const way = this.ways.get(glide.placed.key)
      if (!way || way.length < 2 || glide.placed.marker.device?.state === 'silent') continue
      let own = paths.get(glide.placed.look.colour)
      if (!own) paths.set(glide.placed.look.colour, (own = []))
      const newest = way.at(-1)?.time ?? 0
      let last: MapPoint = way[0] ?? glide
      let { x, y } = camera.toScreen(last)
      let path: Path2D | undefined // that the way goes on with
      // The last of it has been reported, and is still to be seen.
      const until = glide.running ? way.length - 1 : way.length
      for (let i = 1; i <= until; i++) {
        const step = i < until ? way[i] : undefined
        const to: MapPoint = step ?? glide
        const dx = shortWay(last.x, to.x)
        const dy = to.y - last.y
        if (step && Math.abs(dx) + Math.abs(dy) < least) continue
        const fade = Math.min(fades - 1, Math.floor((fades * (newest - (step?.time ?? newest))) / trailFor))
        const now = (own[fade] ??= new Path2D())
        if (now !== path) now.moveTo(x, y)
        x += dx * scale
        y += dy * scale
        now.lineTo(x, y)
        path = now
        last = to
      }
    }
    context.lineWidth = 2.5
    context.lineCap = context.lineJoin = 'round'
    for (const [colour, own] of paths) {
      context.strokeStyle = colour
      own.forEach((path, fade) => {
        context.globalAlpha = 0.55 * (1 - (fade + 0.5) / fades)
        if (path) context.stroke(path)
      })
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

  private drawDevice({ sprites, paint, density }: Drawing, glide: Glide, at: ScreenPoint, now: number): void {
    const { placed } = glide
    const sight = placed.marker.device
    if (!sight) return
    const layer = placed.marker.layer ?? ''
    let silentAfter = this.patience.get(layer)
    if (silentAfter === undefined) this.patience.set(layer, (silentAfter = this.silentAfter(layer)))
    const width = widthOf(1 - (now - sight.time) / silentAfter)
    const { epoch } = this.pictures
    let drawn = this.drawn.get(glide)
    if (drawn?.placed !== placed || drawn.width !== width || drawn.epoch !== epoch) {
      const { state, heading } = sight
      const colour = state === 'silent' ? quiet(paint) : placed.look.colour
      drawn = { placed, width, epoch, picture: this.pictures.of({ colour, state, heading, width }) }
      this.drawn.set(glide, drawn)
    }
    const { picture } = drawn
    // On whole pixels, where drawing is a copy; in between it takes some times as long.
    const left = snapped(at.x - picture.x, density)
    const top = snapped(at.y - picture.y, density)
    sprites.add(picture.image, left, top, picture.width, picture.height)
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
    const named: Seen[] = []
    for (const seen of this.onScreen) {
      if (seen.glide.placed.marker.count > 1) continue
      if (named.length === mostLabels) return
      named.push(seen)
    }
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
