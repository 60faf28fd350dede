import type { View } from './camera'
import type { FeedState } from './feed'
import type { Marker } from './marker'
import type { Position } from './projection'

/** What was picked, by pointer or keyboard. */
export interface Picked {
  source: string // the id of the source
  marker: Marker
}

/** The events of <idle-map>, by name, with their details. They do not bubble. */
export interface IdleMapEvents {
  /** The view has changed; one for each frame of a motion. */
  travel: CustomEvent<View>
  /** The view has come to rest. */
  rest: CustomEvent<View>
  /** A marker, an area or a path was picked. */
  pick: CustomEvent<Picked>
  /** A position was clicked or tapped while the map is placing, or has an overlay. */
  spot: CustomEvent<Position>
  /** A marker of a source that is movable is dragged: where to, and whether it is still held. */
  carry: CustomEvent<Picked & { to: Position; held: boolean }>
  /** The markers are being fetched, are there, or cannot be fetched. */
  state: CustomEvent<FeedState>
  /** The popup has closed. */
  dismiss: CustomEvent<null>
}
