import type { Camera } from '../camera'
import type { Layer } from '../layers/layer'
import type { Tool } from './tool'

/** What an app lays over the map: it is drawn above all else, and gets pointers and keys first. */
export interface Overlay extends Tool, Layer {
  /** It lies on a map from now on, seen by a camera; redraw lets the map draw it again. */
  laid(camera: Camera, redraw: () => void): void
}

/** A tool and layer that has room for one overlay, which it passes everything on to. */
export type OverlaySlot = Required<Omit<Tool, 'wheel'>> & Layer & { overlay: Overlay | null }

export function overlaySlot(): OverlaySlot {
  const slot = { overlay: null } as unknown as OverlaySlot
  for (const name of ['press', 'move', 'lift', 'hover', 'double', 'key', 'cancel', 'draw'] as const)
    slot[name] = (what?: unknown) => slot.overlay?.[name]?.(what as never) ?? false
  return slot
}
