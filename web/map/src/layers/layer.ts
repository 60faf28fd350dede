import type { Camera, ScreenPoint } from '../camera'
import type { FrameLoop } from '../frames'
import type { BoxGrid } from '../grid'
import type { Paint } from '../paint'
import type { Placed } from '../placed'
import type { Sprites } from '../sprites'

/** What a layer draws with. Coordinates of the context are CSS pixels. */
export interface Drawing {
  context: CanvasRenderingContext2D
  camera: Camera
  paint: Paint
  density: number // device pixels to a CSS pixel
  sprites: Sprites // draws what is there many times, for layers above the base
  raised: ReadonlySet<string> // keys of what is pointed at, has the focus, or has the popup
  taken: () => BoxGrid // what the markers take that the map draws itself
}

/** What stands where, for the tip and the popup. */
export interface Standing {
  placed: Placed
  lift: number // CSS pixels from its spot to its top
}

/**
 * A layer is one kind of thing on the map. Those of the base are drawn on a canvas that is kept until the view or the
 * data change; those above it are drawn in each frame. Later layers lie over earlier ones.
 */
export interface Layer {
  draw(d: Drawing): void
  /** The topmost of its things at a spot of the screen. */
  hit?(at: ScreenPoint): Placed | null
  /** Where the thing with a key stands, or null if it has none of this key. */
  describe?(key: string): Standing | null
}

/** The layer of a source that draws its markers in a way of its own. */
export interface OwnLayer extends Layer {
  /** Shows these markers from now on. */
  show(markers: readonly Placed[], loop: FrameLoop): void
}
