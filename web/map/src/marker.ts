import type { Drawing } from './looks'
import type { Box, Position } from './projection'

/** What stands at one spot of the map: a place, a cluster of several, or an area or path that was picked there. */
export interface Marker {
  key: string // unique in its source; the same for the same thing
  layer?: string // of a place or shape: of which of its source's layers it is
  kind: 'place' | 'cluster' | 'shape' | 'device'
  at: Position
  name: string // of a place or shape
  id: string // of a place or shape
  category: string // of a place or shape
  drawing: Drawing // of a place or shape
  count: number // places it stands for; 1 for a place
  badge?: Badge // what the badge of a cluster shows instead of the count
  tally: readonly Share[] // of a cluster, in the order of the legend
  parts?: readonly (readonly [title: string, count: number])[] // of a cluster of several layers: how many of each
  opensAt: number | null // the zoom at which a cluster opens; null if its places share a spot
  extent: Box | null // of a cluster's places
  stacked: readonly StackedPlace[] // the first places of a cluster that share a spot
  counts?: string // what a cluster counts, in the plural; places if absent
  device?: DeviceSight // of a device
}

/** What is known of a device at its position. */
export interface DeviceSight {
  time: number // of the position, in ms since 1970
  state: string // moving, still or silent
  heading?: number // degrees clockwise from north
  speed?: number // metres per second
  accuracy?: number // metres
  hopped?: boolean // it did not go there from its position before, as far as is known
}

/** A number of the places of a cluster. */
export interface Badge {
  number: number
  says: string // what it is called
}

/** The places of a cluster that are of one category of one layer. */
export type Share = readonly [category: string, count: number, layer?: string]

/** One of the places that share a spot. */
export interface StackedPlace {
  layer?: string
  id: string
  name: string
  category: string
}

/** Whether two markers of the same key say the same. */
export function sameMarker(a: Marker, b: Marker): boolean {
  return (
    a.count === b.count &&
    a.badge?.number === b.badge?.number &&
    a.badge?.says === b.badge?.says &&
    a.at.lon === b.at.lon &&
    a.at.lat === b.at.lat &&
    a.name === b.name &&
    a.category === b.category &&
    a.layer === b.layer &&
    a.opensAt === b.opensAt &&
    a.device?.time === b.device?.time &&
    a.device?.state === b.device?.state &&
    sameDrawing(a.drawing, b.drawing) &&
    sameBox(a.extent, b.extent) &&
    a.tally.length === b.tally.length &&
    a.tally.every((share, i) => share.every((v, k) => b.tally[i]?.[k] === v)) &&
    a.stacked.length === b.stacked.length &&
    a.stacked.every((s, i) => {
      const other = b.stacked[i]
      return s.id === other?.id && s.layer === other.layer && s.name === other.name && s.category === other.category
    })
  )
}

function sameDrawing(a: Drawing, b: Drawing): boolean {
  return a.rule === b.rule && a.size === b.size && a.colour === b.colour && a.radius === b.radius && a.tip === b.tip
}

function sameBox(a: Box | null, b: Box | null): boolean {
  if (!a || !b) return a === b
  return a.west === b.west && a.south === b.south && a.east === b.east && a.north === b.north
}
