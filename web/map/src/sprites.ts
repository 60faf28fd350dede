import type { Camera } from './camera'
import type { MapPoint } from './projection'

const few = 600 // pictures that are drawn in one frame
const frameFor = 3 // ms of a frame, of which more pictures take what is left
const least = 1 // ms that they have in any frame
const each = 5 // numbers that are kept of a picture: left, top, width, height, opacity

/** Pictures of one frame, the lowest first, and where the map looked then. */
class Batch {
  readonly pictures: CanvasImageSource[] = []
  readonly numbers: number[] = []
  centre: MapPoint = { x: 0, y: 0 }
  scale = 0

  begin({ centre, scale }: Camera): void {
    this.pictures.length = this.numbers.length = 0
    this.centre = centre
    this.scale = scale
  }

  add(picture: CanvasImageSource, left: number, top: number, width: number, height: number, opacity: number): void {
    this.pictures.push(picture)
    this.numbers.push(left, top, width, height, opacity)
  }

  /** Draws the pictures from a number on, until a time in ms has come; returns the number of the next. */
  draw(context: CanvasRenderingContext2D, from: number, until: number): number {
    const { pictures, numbers } = this
    for (; from < pictures.length; from++) {
      if (from % 16 === 15 && performance.now() > until) break
      const picture = pictures[from]
      const at = from * each
      const number = (i: number) => numbers[at + i] ?? 0
      if (picture) drawOne(context, picture, number(0), number(1), number(2), number(3), number(4))
    }
    return from
  }

  same(b: Batch): boolean {
    return (
      this.scale === b.scale &&
      this.centre.x === b.centre.x &&
      this.centre.y === b.centre.y &&
      this.pictures.length === b.pictures.length &&
      this.numbers.every((v, i) => v === b.numbers[i]) &&
      this.pictures.every((p, i) => p === b.pictures[i])
    )
  }
}

function drawOne(
  context: CanvasRenderingContext2D,
  picture: CanvasImageSource,
  left: number,
  top: number,
  width: number,
  height: number,
  opacity: number,
): void {
  if (opacity !== 1) context.globalAlpha = opacity
  context.drawImage(picture, left, top, width, height)
  if (opacity !== 1) context.globalAlpha = 1
}

/**
 * Sprites draws the small pictures of a frame. A few are drawn where they come, between what else is drawn. Thousands
 * would keep the frame waiting, so they go on a canvas of their own, below the other, some in each frame; meanwhile the
 * last canvas that was finished is moved and scaled with the map. So each picture stands where it belongs in every
 * frame, and only its size, and how it moves by itself, are some frames late.
 */
export class Sprites {
  readonly canvases = [document.createElement('canvas'), document.createElement('canvas')] as const
  private many = false
  private count = 0 // in this frame
  private began = 0 // when it was, in ms
  private direct: CanvasRenderingContext2D | null = null // of the canvas that was there
  private queue = new Batch() // of this frame, if there are many
  private spare: Batch | null = null // of an earlier frame, to be used again
  private shown: Batch | null = null
  private job: Batch | null = null // what is being drawn
  private done = 0 // how many pictures of it are
  private front = 0 // the canvas that is seen

  /** Makes sprites of which a few go on a canvas that is there. */
  constructor(private readonly over: HTMLCanvasElement) {
    for (const canvas of this.canvases) canvas.hidden = true
  }

  /** Begins a frame. */
  begin(camera: Camera): void {
    this.count = 0
    this.began = performance.now()
    this.direct ??= this.over.getContext('2d')
    const { width, height } = this.over
    for (const own of this.many ? this.canvases : []) {
      if (own.width === width && own.height === height) continue
      own.width = width
      own.height = height
      this.shown = this.job = null
    }
    this.queue.begin(camera)
  }

  /** Draws a picture above those before it. All lengths are in CSS pixels. */
  add(picture: CanvasImageSource, left: number, top: number, width: number, height: number, opacity = 1): void {
    this.count++
    if (this.many) {
      this.queue.add(picture, left, top, width, height, opacity)
    } else if (this.direct) {
      drawOne(this.direct, picture, left, top, width, height, opacity)
    }
  }

  /** Ends a frame, and returns whether another has to follow for all to be drawn. */
  end(camera: Camera, density: number): boolean {
    if (this.many) {
      const drawing = this.drawSome(density)
      this.place(camera)
      if (this.count > few / 2) return drawing
    }
    const many = this.count > few
    const changed = many !== this.many
    this.many = many
    if (changed) this.release()
    return changed
  }

  /** Goes on with what is being drawn, or begins with what this frame shows; returns whether some is left. */
  private drawSome(density: number): boolean {
    if (!this.job) {
      if (this.shown?.same(this.queue)) return false
      this.job = this.queue
      this.queue = this.spare ?? new Batch()
      this.spare = null
      this.done = 0
    }
    const canvas = this.canvases[this.front === 0 ? 1 : 0]
    const context = canvas.getContext('2d')
    if (!context) return false
    if (this.done === 0) {
      context.setTransform(density, 0, 0, density, 0, 0)
      context.clearRect(0, 0, canvas.width, canvas.height)
    }
    const until = Math.max(this.began + frameFor, performance.now() + least)
    // At first there is nothing else to show.
    this.done = this.job.draw(context, this.done, this.shown ? until : Infinity)
    if (this.done < this.job.pictures.length) return true
    this.spare = this.shown
    this.shown = this.job
    this.job = null
    this.front = 1 - this.front
    return true // so that the next frame looks whether it has changed meanwhile
  }

  /** Puts the canvas that is finished where its pictures belong. */
  private place(camera: Camera): void {
    const { shown } = this
    this.canvases.forEach((canvas, i) => (canvas.hidden = i !== this.front || !shown))
    if (!shown) return
    const grown = camera.scale / shown.scale
    const middle = camera.toScreen(shown.centre)
    const x = middle.x - (grown * camera.width) / 2
    const y = middle.y - (grown * camera.height) / 2
    const still = grown === 1 && x === 0 && y === 0
    const { style } = this.canvases[this.front === 0 ? 0 : 1]
    style.transform = still ? '' : `translate(${x}px, ${y}px) scale(${grown})`
  }

  /** Lets go of the canvases, and of what they show. */
  private release(): void {
    this.shown = this.job = null
    for (const canvas of this.canvases) {
      canvas.hidden = true
      canvas.width = canvas.height = 1
    }
  }
}
