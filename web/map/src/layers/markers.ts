import type { Camera, ScreenPoint } from '../camera'
import { BoxGrid } from '../grid'
import { shortWay } from '../projection'
import type { Placed } from '../placed'
import type { Scene } from '../scene'
import type { Drawing, Layer, Standing } from './layer'
import { liftOf, MarkerPictures } from './pictures'
import { Transition } from './transition'

const reach = 60 // CSS pixels beyond the screen at which a marker may still show
const slop = 3 // CSS pixels beside a marker at which it is still hit

/** MarkerLayer draws the markers, those of two sets in between while one becomes the other. */
export class MarkerLayer implements Layer {
  readonly transition = new Transition()
  private readonly pictures: MarkerPictures
  private readonly measure = document.createElement('canvas').getContext('2d')
  private grid: BoxGrid | null = null // of the markers on the screen, by their index; null if they have moved since

  constructor(
    private readonly camera: Camera,
    private readonly scene: Scene,
    onLoad: () => void,
  ) {
    this.pictures = new MarkerPictures(onLoad)
  }

  /** Forgets pictures, as when the colours have changed. */
  reset(): void {
    this.pictures.reset()
  }

  draw(d: Drawing): void {
    this.grid = null
    const { items, opacity } = this.transition
    this.eachOnScreen((i, at) => {
      const p = items[i]
      if (p) this.pictures.draw(d, p, at, opacity[i] ?? 1)
    })
  }

  hit(at: ScreenPoint): Placed | null {
    return this.transition.items[this.boxes().topmost(at.x, at.y, slop)] ?? null
  }

  describe(key: string): Standing | null {
    const placed = this.scene.marker(key)
    return placed ? { placed, lift: liftOf(placed.marker) } : null
  }

  /** The places whose names are to be shown, and where they are on the screen. */
  labelled(): { placed: Placed; at: ScreenPoint }[] {
    const found: { placed: Placed; at: ScreenPoint }[] = []
    this.eachOnScreen((i, at) => {
      const placed = this.transition.items[i]
      if (placed?.looks.style.labels && placed.marker.kind === 'place') found.push({ placed, at: { ...at } })
    })
    return found
  }

  boxOf(placed: Placed, at: ScreenPoint) {
    return this.measure ? this.pictures.box(this.measure, placed, at) : { left: at.x, top: at.y, width: 0, height: 0 }
  }

  /** What the markers take on the screen. */
  boxes(): BoxGrid {
    if (this.grid) return this.grid
    const grid = (this.grid = new BoxGrid())
    this.eachOnScreen((i, at) => {
      const p = this.transition.items[i]
      if (p) grid.add(this.boxOf(p, at), i)
    })
    return grid
  }

  /** Calls use with the index of each marker about the screen, and where it is; the next gets the same point. */
  private eachOnScreen(use: (index: number, at: ScreenPoint) => void): void {
    const { at: map } = this.transition
    const { width, height, scale, centre } = this.camera
    const at = { x: 0, y: 0 }
    for (let i = 0; 2 * i < map.length; i++) {
      at.y = height / 2 + ((map[2 * i + 1] ?? 0) - centre.y) * scale
      if (at.y < -reach || at.y > height + reach) continue
      at.x = width / 2 + shortWay(centre.x, map[2 * i] ?? 0) * scale
      if (at.x < -reach || at.x > width + reach) continue
      use(i, at)
    }
  }
}
