import type { Camera, ScreenPoint } from '../camera'
import type { IdleMap } from '../element'
import type { Drawing } from '../layers/layer'
import { drawOutlines } from '../layers/strokes'
import { Looks } from '../looks'
import { type MapPoint, type Position, project, unproject, unwrapped } from '../projection'
import { flat } from '../shape'
import type { Overlay } from '../tools/overlay'
import type { Press } from '../tools/tool'
import { near } from '../tools/travel'
import { radiusOf, ringsOf, rounded, type SketchKind, type SketchShape, type Spot } from './shape'
import { towards } from './measure'

/** A corner of a sketch: which line, and which of its positions. */
export interface Corner {
  line: number
  index: number
}

/** The events of a Sketch, by name. */
export interface SketchEvents {
  /** A corner was added, moved or taken out; whether it is still held. */
  change: CustomEvent<{ held: boolean }>
  /** Another corner is chosen, or none; or drawing has ended. */
  choose: CustomEvent<null>
}

const reach = 14 // CSS pixels around a corner at which it is taken
const look = new Looks({ default: { colour: '#b3261e' } }).of('', {})

interface Handle extends Corner {
  at: ScreenPoint
  between: boolean // it stands between two corners, and makes one when it is taken
}

/**
 * Sketch lets people draw a path, an area or a circle on a map, and change one: a click adds a corner, a double click
 * ends the line, corners are dragged, and the spots between them make new ones. With the keyboard Enter adds a corner
 * at the middle of the map, comma and full stop choose a corner, arrow keys move the chosen one by metres, Delete takes
 * it out. Its events are those of SketchEvents.
 */
export class Sketch extends EventTarget implements Overlay {
  private camera: Camera | null = null
  private redraw = () => {}
  private drawn: Spot[][]
  private adding: number | null // the line that clicks add to
  private picked: Corner | null = null
  private held: { corner: Corner; from: ScreenPoint; moved: boolean } | null = null
  private pointer: ScreenPoint | null = null
  private readonly listening = new AbortController()

  /** Lies on a map until remove. Without lines, the first click begins one. */
  constructor(
    private readonly map: IdleMap,
    private form: SketchKind,
    lines: SketchShape['lines'] = [],
  ) {
    super()
    this.drawn = lines.map((l) => [...l])
    this.adding = lines.length === 0 ? 0 : null
    if (lines.length === 0) this.drawn = [[]]
    map.overlay = this
    map.addEventListener('spot', (e) => this.add(e.detail), { signal: this.listening.signal })
  }

  /** Takes the sketch off the map. */
  remove(): void {
    this.listening.abort()
    if (this.map.overlay === this) this.map.overlay = null
  }

  get shape(): SketchShape {
    return { kind: this.form, lines: this.drawn.filter((l) => l.length > 0) }
  }

  set shape({ kind, lines }: SketchShape) {
    this.form = kind
    this.drawn = lines.map((l) => [...l])
    if (this.adding !== null) this.adding = Math.max(0, this.drawn.length - 1)
    if (this.drawn.length === 0) {
      this.drawn = [[]]
      this.adding = 0
    }
    this.picked = null
    this.redraw()
  }

  /** Whether a click adds a corner. */
  get drawing(): boolean {
    return this.adding !== null
  }

  get chosen(): Corner | null {
    return this.picked
  }

  /** Begins another line: a hole, if it is inside an area. */
  begin(): void {
    this.finish()
    this.drawn.push([])
    this.adding = this.drawn.length - 1
    this.tellChoice()
  }

  /** Ends the line that clicks add to. */
  finish(): void {
    if (this.adding === null) return
    this.adding = null
    this.drawn = this.drawn.filter((l) => l.length > 0)
    this.tellChoice()
  }

  /** Takes a corner out; the chosen one, if none is given. */
  drop(corner = this.picked): void {
    const line = corner && this.drawn[corner.line]
    if (!line || this.form === 'circle') return
    line.splice(corner.index, 1)
    if (line.length === 0 && this.adding !== corner.line) this.drawn.splice(corner.line, 1)
    this.picked = null
    this.changed()
  }

  /** Adds a corner to the line that is being drawn. */
  add(at: Position): void {
    const line = this.adding === null ? undefined : this.drawn[this.adding]
    if (this.adding === null || !line) {
      this.choose(null)
      return
    }
    const last = line.at(-1)
    const first = line[0]
    if (last && near(this.onScreen(last), this.onScreen(at))) return // of a double click
    if (this.form === 'area' && line.length > 2 && first && near(this.onScreen(first), this.onScreen(at))) {
      this.finish()
      return
    }
    line.push(rounded(at))
    this.picked = { line: this.adding, index: line.length - 1 }
    if (this.form === 'circle' && line.length === 2) this.adding = null
    this.changed()
    this.tellChoice()
  }

  laid(camera: Camera, redraw: () => void): void {
    this.camera = camera
    this.redraw = redraw
  }

  press(p: Press): boolean {
    const handle = p.pressed === 1 ? this.handleAt(p.at) : undefined
    if (!handle) return false
    const first = this.drawn[handle.line]?.[0]
    if (this.adding === handle.line && handle.index === 0 && first && this.form === 'area') {
      if ((this.drawn[handle.line]?.length ?? 0) > 2) this.finish() // a click on the first corner closes the ring
    }
    if (handle.between) this.drawn[handle.line]?.splice(handle.index, 0, rounded(unproject(this.toMap(handle.at))))
    this.held = { corner: handle, from: p.at, moved: handle.between }
    this.choose(handle)
    return true
  }

  move(p: Press): boolean {
    const { held } = this
    if (!held) return false
    held.moved ||= !near(held.from, p.at)
    if (held.moved) this.put(held.corner, this.map.positionAt(p.at), true)
    return true
  }

  lift(): void {
    const { held } = this
    this.held = null
    if (held?.moved) this.changed()
  }

  cancel(): void {
    this.held = null
  }

  hover(at: ScreenPoint | null): void {
    this.pointer = at
    this.redraw()
  }

  double(): boolean {
    this.finish()
    return true
  }

  key(e: KeyboardEvent): boolean {
    const corners = this.drawn.flatMap((l, line) => l.map((_, index) => ({ line, index })))
    const now = corners.findIndex((c) => c.line === this.picked?.line && c.index === this.picked.index)
    const step = { ',': -1, '.': 1 }[e.key]
    if (step !== undefined && corners.length > 0) {
      const next = now < 0 ? (step > 0 ? 0 : corners.length - 1) : (now + step + corners.length) % corners.length
      this.choose(corners[next] ?? null)
      return true
    }
    if (e.key === 'Enter') {
      if (this.drawing) this.add(this.map.view.centre)
      else this.begin()
      return true
    }
    if (e.key === 'Escape' && (this.picked !== null || this.drawing)) {
      if (this.picked) this.choose(null)
      else this.finish()
      return true
    }
    if (!this.picked) return false
    if (e.key === 'Delete' || e.key === 'Backspace') {
      this.drop()
      return true
    }
    const direction = { ArrowUp: 0, ArrowRight: 90, ArrowDown: 180, ArrowLeft: 270 }[e.key]
    const from = this.drawn[this.picked.line]?.[this.picked.index]
    if (direction === undefined || !from) return false
    this.put(this.picked, towards(from, e.shiftKey ? 10 : 1, direction), false)
    return true
  }

  draw(d: Drawing): void {
    const lines = ringsOf({ kind: this.form, lines: this.drawn })
    const ways = lines.map((l) => flat(unwrapped(l.map(project)) as MapPoint[]))
    const ringed = this.form !== 'path'
    // A ring that is being drawn is open.
    const [rings, paths] = ringed
      ? [ways.filter((_, i) => i !== this.adding), ways.filter((_, i) => i === this.adding)]
      : [[], ways]
    d.context.lineJoin = d.context.lineCap = 'round'
    drawOutlines(d.context, d.camera, look, rings, paths, d.paint, false)
    d.context.lineCap = 'butt'
    for (const h of this.handles()) {
      const chosen = !h.between && h.line === this.picked?.line && h.index === this.picked.index
      const near = this.pointer && Math.hypot(this.pointer.x - h.at.x, this.pointer.y - h.at.y) < reach
      d.context.beginPath()
      d.context.arc(h.at.x, h.at.y, h.between ? 4 : chosen || near ? 8 : 6, 0, 2 * Math.PI)
      d.context.fillStyle = chosen ? d.paint.focus : d.paint.paper
      d.context.globalAlpha = h.between ? 0.75 : 1
      d.context.fill()
      d.context.strokeStyle = d.paint.focus
      d.context.lineWidth = h.between ? 1 : 2
      d.context.stroke()
    }
    d.context.globalAlpha = 1
  }

  /** Chooses a corner, or none. */
  choose(corner: Corner | null): void {
    this.picked = corner && { line: corner.line, index: corner.index }
    this.tellChoice()
  }

  /** Puts a corner somewhere. The middle of a circle takes its edge along. */
  put({ line, index }: Corner, to: Position, held: boolean): void {
    const points = this.drawn[line]
    const was = points?.[index]
    if (!points || !was) return
    const edge = points[1]
    if (this.form === 'circle' && index === 0 && edge) points[1] = rounded(towards(to, radiusOf([was, edge]), 90))
    points[index] = { ...was, ...rounded(to) }
    this.changed(held)
  }

  private changed(held = false): void {
    this.redraw()
    this.dispatchEvent(new CustomEvent('change', { detail: { held } }))
  }

  private tellChoice(): void {
    this.redraw()
    this.dispatchEvent(new CustomEvent('choose', { detail: null }))
  }

  private toMap(at: ScreenPoint): MapPoint {
    return this.camera?.toMap(at) ?? { x: 0, y: 0 }
  }

  private onScreen(p: Position): ScreenPoint {
    return this.camera?.toScreen(project(p)) ?? { x: 0, y: 0 }
  }

  /** The corners on the screen, and the spots between them if these are far enough apart. */
  private handles(): Handle[] {
    const out: Handle[] = []
    const apart = 40 // CSS pixels
    this.drawn.forEach((points, line) => {
      const at = points.map((p) => this.onScreen(p))
      at.forEach((a, index) => out.push({ line, index, at: a, between: false }))
      if (this.form === 'circle') return
      at.forEach((a, i) => {
        const closing = i === at.length - 1
        const b = closing
          ? this.form === 'area' && this.adding !== line && at.length > 2
            ? at[0]
            : undefined
          : at[i + 1]
        if (!b || Math.hypot(b.x - a.x, b.y - a.y) < apart) return
        out.push({ line, index: i + 1, at: { x: (a.x + b.x) / 2, y: (a.y + b.y) / 2 }, between: true })
      })
    })
    return out
  }

  private handleAt(at: ScreenPoint): Handle | undefined {
    const away = (h: Handle) => Math.hypot(h.at.x - at.x, h.at.y - at.y) + (h.between ? 3 : 0)
    return this.handles()
      .filter((h) => away(h) < reach)
      .sort((a, b) => away(a) - away(b))[0]
  }
}

/** The listeners of a Sketch are typed by its events. */
export interface Sketch {
  addEventListener<T extends keyof SketchEvents>(
    type: T,
    listener: (this: Sketch, e: SketchEvents[T]) => unknown,
    options?: boolean | AddEventListenerOptions,
  ): void
  addEventListener(
    type: string,
    listener: EventListenerOrEventListenerObject | null,
    options?: boolean | AddEventListenerOptions,
  ): void
}
