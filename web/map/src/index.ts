import { IdleMap } from './element'

export type { View } from './camera'
export type { Density, DensityCell } from './density'
export { IdleMap } from './element'
export type { IdleMapEvents, Picked } from './events'
export type { FeedState, MarkerSource } from './feed'
export { iconNames, iconPicture, ownIconNames, setIconSheet } from './icons'
export { type Appearance, type Drawing, type Look, Looks, lookOf, shapeURL, type Style } from './looks'
export type { Badge, DeviceSight, Marker, Share, StackedPlace } from './marker'
export { around, type Box, type Position } from './projection'
export type { Patch } from './scene'
export type { Shape } from './shape'
export type { Words } from './words'

if (!customElements.get('idle-map')) customElements.define('idle-map', IdleMap)
