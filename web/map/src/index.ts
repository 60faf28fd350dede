import { IdleMap } from './element'

export type { View } from './camera'
export { IdleMap, type Pick } from './element'
export type { FeedState, MarkerSource } from './feed'
export { iconNames, iconPicture, ownIconNames, setSprite } from './icons'
export { type Drawing, type Look, Looks, lookOf, shapeURL, type Style } from './looks'
export type { Marker, PlacedMarker, StackedPlace } from './markers'
export type { Shape } from './shapes'
export { around, type Box, type LonLat } from './projection'

if (!customElements.get('idle-map')) customElements.define('idle-map', IdleMap)
