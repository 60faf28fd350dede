import type { Camera } from './camera'
import type { Drawing, Layer } from './layers/layer'
import { type Paint, readPaint } from './paint'
import { Sprites } from './sprites'

/**
 * Stage is what the map is drawn on: a base canvas that is kept until the view or the data change, and one over it that
 * is drawn in each frame. Between them are those of the sprites.
 */
export class Stage {
  readonly element = document.createElement('div')
  private readonly base = document.createElement('canvas')
  private readonly over = document.createElement('canvas')
  private readonly sprites = new Sprites(this.over)
  private readonly watch: ResizeObserver
  private stale = true // the base is
  private paint: Paint | null = null
  private size: { width: number; height: number } | null = null // CSS pixels; null until the browser says
  private pixels: { width: number; height: number } | null = null // device pixels, if the browser says

  constructor(
    private readonly camera: Camera,
    private readonly layers: { base: readonly Layer[]; over: readonly Layer[] },
    onResize: () => void,
  ) {
    this.element.className = 'stage'
    this.element.part.add('stage')
    this.element.tabIndex = 0
    this.element.setAttribute('role', 'application')
    this.element.append(this.base, ...this.sprites.canvases, this.over)
    this.watch = new ResizeObserver(([entry]) => {
      const { width = 0, height = 0 } = entry?.contentRect ?? {}
      this.size = { width: Math.round(width), height: Math.round(height) } // as the camera has it
      const box = entry?.devicePixelContentBoxSize?.[0]
      this.pixels = box ? { width: box.inlineSize, height: box.blockSize } : null
      this.stale = true
      onResize()
    })
  }

  start(): void {
    try {
      // It fires when the density changes too.
      this.watch.observe(this.element, { box: 'device-pixel-content-box' })
    } catch {
      this.watch.observe(this.element)
    }
    this.stale = true
  }

  stop(): void {
    this.watch.disconnect()
  }

  /** The base has to be drawn anew: the view or what it shows has changed. */
  spoil(): void {
    this.stale = true
  }

  /** Looks at the colours again, and returns whether they have changed. */
  recolour(): boolean {
    const before = this.paint
    this.paint = readPaint(this.element)
    const changed = before !== null && JSON.stringify(before) !== JSON.stringify(this.paint)
    this.stale ||= changed
    return changed
  }

  /** Draws a frame, and returns whether another has to follow for all to be drawn. */
  draw(raised: Drawing['raised'], taken: Drawing['taken']): boolean {
    const density = window.devicePixelRatio || 1
    // Asking the element would have the browser lay out the whole page, between two frames.
    if (!this.size || this.size.width === 0) return false
    const width = nearest(this.pixels?.width, this.size.width * density)
    const height = nearest(this.pixels?.height, this.size.height * density)
    this.paint ??= readPaint(this.element)
    for (const canvas of [this.base, this.over]) {
      if (canvas.width === width && canvas.height === height) continue
      canvas.width = width
      canvas.height = height
      this.stale = true
    }
    const { camera, sprites } = this
    const drawing = { camera, paint: this.paint, density, sprites, raised, taken }
    sprites.begin(camera)
    if (this.stale) this.drawOn(this.base, this.layers.base, drawing)
    this.stale = false
    this.drawOn(this.over, this.layers.over, drawing)
    return sprites.end(camera, density)
  }

  private drawOn(canvas: HTMLCanvasElement, layers: readonly Layer[], d: Omit<Drawing, 'context'>): void {
    const context = canvas.getContext('2d')
    if (!context) return
    context.setTransform(d.density, 0, 0, d.density, 0, 0)
    context.clearRect(0, 0, this.camera.width, this.camera.height)
    for (const layer of layers) layer.draw({ ...d, context })
  }
}

/** The number of device pixels that the browser gives, if it is what the density makes it, but for rounding. */
function nearest(told: number | undefined, computed: number): number {
  return told !== undefined && Math.abs(told - computed) < 1 ? told : Math.round(computed)
}
