import type { Marker } from './marker'

/** All that the map says in words, for screen readers and in its tip. An app may replace any of it. */
export interface Words {
  map: string
  markers: string
  popup: string
  /** Says what a marker is. */
  marker(m: Marker): string
  /** Says what a shaded cell tells: a number by its name, and of how many places. */
  cell(says: string, number: number, places: number): string
  /** Says what is in view after a move; shaded is how many places are in shaded cells. */
  inView(zoom: number, markers: readonly Marker[], shaded: number): string
}

const number = new Intl.NumberFormat('en')

const english = new Intl.PluralRules('en')

function counted(n: number, one: string, many: string): string {
  return `${number.format(n)} ${english.select(n) === 'one' ? one : many}`
}

export const englishWords: Words = {
  map: 'Map. Arrow keys move it, plus and minus zoom, Tab goes to the markers.',
  markers: 'Markers, areas and paths in view',
  popup: 'Details',
  marker(m) {
    if (m.count === 1) return [m.name || m.id, m.category].filter(Boolean).join(', ')
    const said =
      m.parts && m.parts.length > 1
        ? m.parts.map(([title, count]) => `${number.format(count)} of ${title}`)
        : [...m.tally]
            .sort((a, b) => b[1] - a[1])
            .map(([category, count]) => `${count} ${category || 'without category'}`)
    const told = m.badge ? `, ${m.badge.says}: ${number.format(m.badge.number)}` : ''
    return `Cluster of ${m.count} ${m.counts ?? 'places'}${told}: ${said.join(', ')}`
  },
  cell(says, told, places) {
    const of = counted(places, 'place', 'places')
    return says === 'places' ? of : `${says}: ${number.format(told)}, ${of}`
  },
  inView(zoom, markers, shaded) {
    const shapes = markers.filter((m) => m.kind === 'shape').length
    const count = (of: (m: Marker) => boolean) => markers.reduce((n, m) => n + (of(m) ? m.count : 0), 0)
    const devices = count((m) => m.kind === 'device' || m.counts !== undefined)
    const places = count((m) => m.kind !== 'shape') - devices + shaded
    const said = [counted(places, 'place', 'places')]
    if (devices > 0) said.push(counted(devices, 'device', 'devices'))
    if (shapes > 0) said.push(counted(shapes, 'shape', 'shapes'))
    return `Zoom ${zoom.toFixed(1)}: ${said.join(' and ')} in view.`
  },
}
