import type { Position, View } from '@idlebeacon/map'
import { fetchReach, type Item } from '../api/items'
import { everything } from '../api/selection'
import { fetchMarkers } from '../api/view'

const middle = 170 // CSS pixels: how far from the middle of the small map a marker can be and still be seen whole
const neighbours = 8 // places that the small map is to show about its middle

/**
 * Finds a view in which places stand alone: clusters hide what a style says of places.
 * It compares the surroundings of a few places from all over a collection, and returns null if none has neighbours.
 */
export async function openingView(collection: string, items: readonly Item[]): Promise<View | null> {
  const views = await Promise.all(items.map((i) => surroundings(collection, i)))
  let best: Surroundings | null = null
  for (const v of views) {
    if (v && (!best || v.kinds > best.kinds || (v.kinds === best.kinds && v.single > best.single))) best = v
  }
  return best?.view ?? null
}

interface Surroundings {
  view: View
  single: number // markers that stand for one place
  kinds: number // their categories
}

async function surroundings(collection: string, item: Item): Promise<Surroundings | null> {
  const [lon, lat] = item.geometry.coordinates as number[]
  if (item.geometry.type !== 'Point' || lon === undefined || lat === undefined) return null
  const centre: Position = { lon, lat }
  const metresAtZoom0 = (40_075_017 / 256) * Math.cos((lat * Math.PI) / 180) // metres a pixel
  try {
    const far = await fetchReach(collection, centre, neighbours)
    if (!far) return null
    const zoom = Math.min(18, Math.log2((metresAtZoom0 * middle) / far))
    const high = far / 111_195 // degrees
    const wide = Math.min(high / Math.cos((lat * Math.PI) / 180), 180)
    const box = {
      west: Math.max(lon - wide, -180),
      south: Math.max(lat - high, -90),
      east: Math.min(lon + wide, 180),
      north: Math.min(lat + high, 90),
    }
    const markers = await fetchMarkers({ collection, chosen: everything, categories: [] }, box, Math.round(zoom))
    const single = markers.filter((m) => m.kind === 'place')
    return { view: { centre, zoom }, single: single.length, kinds: new Set(single.map((m) => m.category)).size }
  } catch {
    return null // the map shows the whole collection, as it does without places
  }
}
