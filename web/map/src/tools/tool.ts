import type { ScreenPoint } from '../camera'

/** A pointer on the map: a finger, a pen or the mouse. */
export interface Press {
  pointer: number // tells fingers apart
  at: ScreenPoint
  pressed: number // pointers that are pressed now, this one among them until it is lifted
}

/**
 * A tool is a use of pointers, wheel and keys. Hands offers each event to the tools in their order, until one returns
 * true: it has taken the event. A press and its moves that a tool has taken are its own until the pointer is lifted;
 * the other tools that had been offered the press are cancelled.
 */
export interface Tool {
  press?(p: Press): boolean
  move?(p: Press): boolean
  lift?(p: Press): void
  /** The pointer moves over the map with nothing pressed; null when it leaves. */
  hover?(at: ScreenPoint | null): void
  double?(at: ScreenPoint): boolean
  wheel?(at: ScreenPoint, pixels: number): boolean
  key?(e: KeyboardEvent): boolean
  /** What was begun is given up: the browser has taken the pointer, or the map goes. */
  cancel(): void
}

/** Hands gives the events of one element to tools. */
export class Hands {
  private readonly holders = new Map<number, Tool[]>() // who gets what follows of a press
  private readonly abort = new AbortController()

  constructor(
    private readonly element: HTMLElement,
    private readonly tools: readonly Tool[],
  ) {
    const on = <K extends keyof HTMLElementEventMap>(
      type: K,
      listener: (e: HTMLElementEventMap[K]) => void,
      passive = true,
    ) => element.addEventListener(type, listener, { signal: this.abort.signal, passive })
    on('pointerdown', (e) => this.press(e))
    on('pointermove', (e) => this.move(e))
    on('pointerup', (e) => this.lift(e))
    on('pointercancel', (e) => this.cancel(e))
    on('pointerleave', () => tools.forEach((t) => t.hover?.(null)))
    on('wheel', (e) => this.wheel(e), false)
    on('dblclick', (e) => void tools.some((t) => t.double?.(this.at(e))))
    on('keydown', (e) => this.key(e), false)
  }

  stop(): void {
    this.abort.abort()
    this.holders.clear()
    for (const t of this.tools) t.cancel()
  }

  private at(e: MouseEvent): ScreenPoint {
    const box = this.element.getBoundingClientRect()
    return { x: e.clientX - box.left, y: e.clientY - box.top }
  }

  private press(e: PointerEvent): void {
    if (e.button !== 0) return
    this.element.setPointerCapture(e.pointerId)
    this.holders.set(
      e.pointerId,
      this.tools.filter((t) => t.press),
    )
    this.offer(e, (t, p) => t.press?.(p) ?? false)
  }

  /** Offers an event of a pressed pointer to those that hold it. */
  private offer(e: PointerEvent, use: (t: Tool, p: Press) => boolean): void {
    const holders = this.holders.get(e.pointerId) ?? []
    const p = { pointer: e.pointerId, at: this.at(e), pressed: this.holders.size }
    const taker = holders.find((t) => use(t, p))
    if (!taker || holders.length === 1) return
    for (const t of holders) if (t !== taker) t.cancel()
    this.holders.set(e.pointerId, [taker])
  }

  private move(e: PointerEvent): void {
    if (this.holders.has(e.pointerId)) this.offer(e, (t, p) => t.move?.(p) ?? false)
    else for (const t of this.tools) t.hover?.(this.at(e))
  }

  private lift(e: PointerEvent): void {
    const holders = this.holders.get(e.pointerId)
    this.holders.delete(e.pointerId)
    const p = { pointer: e.pointerId, at: this.at(e), pressed: this.holders.size }
    for (const t of holders ?? []) t.lift?.(p)
  }

  private cancel(e: PointerEvent): void {
    const holders = this.holders.get(e.pointerId)
    this.holders.delete(e.pointerId)
    for (const t of holders ?? []) t.cancel()
  }

  private wheel(e: WheelEvent): void {
    e.preventDefault()
    const line = 20 // CSS pixels
    const page = 400
    const unit = { [WheelEvent.DOM_DELTA_PIXEL]: 1, [WheelEvent.DOM_DELTA_LINE]: line }[e.deltaMode] ?? page
    const pinch = e.ctrlKey ? 4 : 1 // a touchpad's pinch comes as small wheel steps
    this.tools.some((t) => t.wheel?.(this.at(e), e.deltaY * unit * pinch))
  }

  private key(e: KeyboardEvent): void {
    if (e.target !== this.element || e.ctrlKey || e.metaKey || e.altKey) return
    if (this.tools.some((t) => t.key?.(e))) e.preventDefault()
  }
}
