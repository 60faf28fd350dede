import type { Camera, ScreenPoint } from './camera'

/** What a Gestures reports to its owner. */
export interface GestureTarget {
  camera: Camera
  /** The camera was moved by hand. */
  moved(): void
  /** A hand has come to rest. */
  rested(): void
  /** A spot was clicked or tapped. */
  picked(at: ScreenPoint): void
  /** A spot was clicked twice. */
  doubled(at: ScreenPoint): void
  /** The pointer hovers over a spot, or left. */
  hovered(at: ScreenPoint | null): void
  /** A motion that runs must give way to the hand. */
  interrupt(): void
}

const clickSlop = 5 // CSS pixels that a click may wander
const panStep = 100 // CSS pixels for an arrow key
const wheelZoom = 1 / 400 // zoom levels for a CSS pixel of the wheel
const restAfter = 150 // ms without a turn of the wheel or a key

/** Gestures moves a camera by pointer, wheel and keys on one element. */
export class Gestures {
  private readonly pointers = new Map<number, ScreenPoint>()
  private start: ScreenPoint | null = null // of a press that may yet be a click
  private spread = 0 // CSS pixels between two fingers
  private rest = 0
  private readonly abort = new AbortController()

  constructor(
    private readonly element: HTMLElement,
    private readonly target: GestureTarget,
  ) {
    const on = <K extends keyof HTMLElementEventMap>(
      type: K,
      listener: (e: HTMLElementEventMap[K]) => void,
      passive = true,
    ) => element.addEventListener(type, listener, { signal: this.abort.signal, passive })
    on('pointerdown', (e) => this.down(e))
    on('pointermove', (e) => this.move(e))
    on('pointerup', (e) => this.up(e))
    on('pointercancel', (e) => this.up(e, true))
    on('pointerleave', () => target.hovered(null))
    on('wheel', (e) => this.wheel(e), false)
    on('dblclick', (e) => target.doubled(this.at(e)))
    on('keydown', (e) => this.key(e), false)
  }

  stop(): void {
    this.abort.abort()
    clearTimeout(this.rest)
  }

  private at(e: MouseEvent): ScreenPoint {
    const frame = this.element.getBoundingClientRect()
    return { x: e.clientX - frame.left, y: e.clientY - frame.top }
  }

  private down(e: PointerEvent): void {
    if (e.button !== 0) return
    this.target.interrupt()
    this.element.setPointerCapture(e.pointerId)
    this.pointers.set(e.pointerId, this.at(e))
    this.start = this.pointers.size === 1 ? this.at(e) : null
    this.spread = this.measure()
  }

  private move(e: PointerEvent): void {
    const last = this.pointers.get(e.pointerId)
    const now = this.at(e)
    if (!last) {
      this.target.hovered(now)
      return
    }
    if (this.start && Math.hypot(now.x - this.start.x, now.y - this.start.y) < clickSlop) return
    this.start = null
    this.pointers.set(e.pointerId, now)
    const share = 1 / this.pointers.size
    this.target.camera.shift((last.x - now.x) * share, (last.y - now.y) * share)
    const spread = this.measure()
    if (this.spread > 0 && spread > 0) {
      this.target.camera.zoomAbout(this.between(), this.target.camera.zoom + Math.log2(spread / this.spread))
    }
    this.spread = spread
    this.target.moved()
  }

  private up(e: PointerEvent, cancelled = false): void {
    if (!this.pointers.delete(e.pointerId)) return
    this.spread = this.measure()
    if (this.pointers.size > 0) return
    this.target.rested() // a click may have ended a motion
    if (this.start && !cancelled) this.target.picked(this.start)
    this.start = null
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

  private wheel(e: WheelEvent): void {
    e.preventDefault()
    this.target.interrupt()
    const pixels =
      e.deltaY * (e.deltaMode === WheelEvent.DOM_DELTA_PIXEL ? 1 : e.deltaMode === WheelEvent.DOM_DELTA_LINE ? 20 : 400)
    const pinch = e.ctrlKey ? 4 : 1 // a touchpad's pinch comes as small wheel steps
    const change = Math.max(-1, Math.min(1, -pixels * wheelZoom * pinch))
    this.target.camera.zoomAbout(this.at(e), this.target.camera.zoom + change)
    this.target.moved()
    this.restSoon()
  }

  private key(e: KeyboardEvent): void {
    if (e.target !== this.element || e.ctrlKey || e.metaKey || e.altKey) return
    const camera = this.target.camera
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
    if (!action) return
    e.preventDefault()
    this.target.interrupt()
    action()
    this.target.moved()
    this.restSoon() // a key that is held comes again and again
  }

  /** A hand comes to rest when nothing more has come for a while. */
  private restSoon(): void {
    clearTimeout(this.rest)
    this.rest = window.setTimeout(() => this.target.rested(), restAfter)
  }
}
