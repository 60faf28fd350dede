import { type Change, propertyAt } from '../api/edits'
import { counted } from '../text/format'

/** By what way changes are made, in words. */
export const ways: Record<string, string> = {
  edit: 'by an app',
  console: 'in the console',
  command: 'on the command line',
  suggestion: 'by a suggestion',
  undo: 'taking back',
  import: 'by an import',
}

/** Who made a change, and how. */
export function whoOf(c: Change): string {
  const who = c.by || c.actor || 'somebody'
  return c.way ? `${who}, ${ways[c.way] ?? c.way}` : who
}

/** What a change did, in a few words. Items are called by a property. */
export function kindOf(c: Change, nameProperty: string): string {
  if (c.item === undefined) {
    switch (c.op) {
      case 'create':
        return 'Collection made'
      case 'delete':
        return 'Collection deleted'
      case 'fill':
      case 'merge':
        return `${counted(c.items ?? 0, 'item', 'items')} ${c.way === 'undo' ? 'put back' : 'imported'}`
    }
    return 'Collection described anew'
  }
  const name = nameOf(c, nameProperty)
  if (c.op === 'create') return `${name} added`
  if (c.op === 'delete') return `${name} taken out`
  const members = (c.differing ?? []).map((d) => memberOf(d.member))
  return `${name}: ${members.slice(0, 4).join(', ')}${members.length > 4 ? ' …' : ''}`
}

/** The name of the item of a change, or its id. */
function nameOf(c: Change, property: string): string {
  const said = (c.is ?? c.was)?.properties[property]
  return typeof said === 'string' && said !== '' ? said : (c.item ?? '')
}

/** The name of a member of an item that differs. */
export function memberOf(pointer: string): string {
  if (pointer === '/geometry') return 'position'
  return propertyAt(pointer)
}

type Coordinates = number | Coordinates[]

/** The box that holds where the item of a change was and is, as the address of the map has it; '' for none. */
export function boxOf(c: Change): string {
  const lons: number[] = []
  const lats: number[] = []
  const take = (at: Coordinates | undefined): void => {
    if (!Array.isArray(at)) return
    const [lon, lat] = at
    if (typeof lon === 'number' && typeof lat === 'number') {
      lons.push(lon)
      lats.push(lat)
    } else at.forEach(take)
  }
  for (const i of [c.was, c.is]) take((i?.geometry as { coordinates?: Coordinates } | undefined)?.coordinates)
  if (lons.length === 0) return ''
  const margin = 0.002 // degrees
  const [west, east] = [Math.min(...lons) - margin, Math.max(...lons) + margin]
  const [south, north] = [Math.min(...lats) - margin, Math.max(...lats) + margin]
  return [west, south, east, north].map((n) => n.toFixed(5)).join()
}
