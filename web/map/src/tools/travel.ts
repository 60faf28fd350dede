import type { Camera, ScreenPoint } from '../camera'
import type { Press, Tool } from './tool'

/** What a Traveller reports to its owner. */
export interface Travels {
  /** The camera was moved by hand. */
  moved(): void
  /** A hand has come to rest. */
  rested(): void
  /** A motion that runs must give way to the hand. */
  interrupt(): void
}

const clickSlop = 5 // CSS pixels that a click may wander
const panStep = 100 // CSS pixels for an arrow key
const wheelZoom = 1 / 400 // zoom levels for a CSS pixel of the wheel
const restAfter = 150 // ms without a turn of the wheel or a key

/** Traveller moves a camera: one pointer drags the map, two pinch it, the wheel zooms, keys do both. */
export class Traveller implements Tool {
  private readonly pointers = new Map<number, ScreenPoint>()
  private start: ScreenPoint | null = null // of a press that may yet be a click
  private spread = 0 // CSS pixels between two fingers
  private rest = 0

  constructor(
    private readonly camera: Camera,
    private readonly travels: Travels,
  ) {}

  press(p: Press): boolean {
    this.travels.interrupt()
    this.pointers.set(p.pointer, p.at)
    this.start = this.pointers.size === 1 ? p.at : null
    this.spread = this.measure()
    return false // a press may also be a click
  }

  move(p: Press): boolean {
    const last = this.pointers.get(p.pointer)
    if (!last) return false
    if (this.start && near(this.start, p.at)) return false
    this.start = null
    this.pointers.set(p.pointer, p.at)
    const share = 1 / this.pointers.size
    this.camera.shift((last.x - p.at.x) * share, (last.y - p.at.y) * share)
    const spread = this.measure()
    if (this.spread > 0 && spread > 0) {
      this.camera.zoomAbout(this.between(), this.camera.zoom + Math.log2(spread / this.spread))
    }
    this.spread = spread
    this.travels.moved()
    return true
  }

  lift(p: Press): void {
    if (!this.pointers.delete(p.pointer)) return
    this.spread = this.measure()
    if (this.pointers.size > 0) return
    this.start = null
    this.travels.rested() // a click may have ended a motion
  }

  cancel(): void {
    clearTimeout(this.rest)
    const held = this.pointers.size > 0
    this.pointers.clear()
    this.start = null
    this.spread = 0
    if (held) this.travels.rested()
  }

  wheel(at: ScreenPoint, pixels: number): boolean {
    this.travels.interrupt()
    const change = Math.max(-1, Math.min(1, -pixels * wheelZoom))
    this.camera.zoomAbout(at, this.camera.zoom + change)
    this.travels.moved()
    this.restSoon()
    return true
  }

  key(e: KeyboardEvent): boolean {
    const camera = this.camera
    const middle = { x: camera.width / 2, y: camera.height / 2 }
    const actions: Record<string, () => void> = {
      ArrowLeft: () => camera.shift(-panStep, 0),
      ArrowRight: () => camera.shift(panStep, 0),
      ArrowUp: () => camera.shift(0, -panStep),
      ArrowDown: () => camera.shift(0, panStep),
      '+': () => camera.zoomAbout(middle, camera.zoom + 0.5),
      '=': () => camera.zoomAbout(middle, camera.zoom + 0.5),
      '-': () => camera.zoomAbout(middle, camera.zoom - 0.5),
    }
    const action = actions[e.key]
    if (!action) return false
    this.travels.interrupt()
    action()
    this.travels.moved()
    this.restSoon() // a key that is held comes again and again
    return true
  }

  /** The distance between two fingers, or 0. */
  private measure(): number {
    const [a, b] = [...this.pointers.values()]
    return a && b ? Math.hypot(a.x - b.x, a.y - b.y) : 0
  }

  private between(): ScreenPoint {
    const all = [...this.pointers.values()]
    const sum = all.reduce((s, p) => ({ x: s.x + p.x, y: s.y + p.y }))
    return { x: sum.x / all.length, y: sum.y / all.length }
  }

  /** A hand comes to rest when nothing more has come for a while. */
  private restSoon(): void {
    clearTimeout(this.rest)
    this.rest = window.setTimeout(() => this.travels.rested(), restAfter)
  }
}

/** Whether two spots are so close that a press and a lift there are a click. */
export function near(a: ScreenPoint, b: ScreenPoint): boolean {
  return Math.hypot(b.x - a.x, b.y - a.y) < clickSlop
}
