import type { Camera, ScreenPoint } from '../camera'
import type { Position } from '../projection'
import type { Scene } from '../scene'

/** Where what is put at a spot of the screen goes instead; null for just there. */
export type Snap = (at: ScreenPoint, camera: Camera, scene: Scene) => Position | null
