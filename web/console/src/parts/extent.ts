import { around, type Box } from '@idlebeacon/map'

/** The positions of a GeoJSON geometry, longitude first. */
export function positionsOf(g: {
  coordinates?: unknown
  geometries?: readonly unknown[]
}): [lon: number, lat: number][] {
  const found: [number, number][] = []
  const walk = (c: unknown): void => {
    if (!Array.isArray(c)) return
    const [lon, lat] = c as unknown[]
    if (typeof lon === 'number' && typeof lat === 'number') found.push([lon, lat])
    else c.forEach(walk)
  }
  walk(g.coordinates)
  for (const member of g.geometries ?? []) found.push(...positionsOf(member as { coordinates?: unknown }))
  return found
}

/** The smallest box around some geometries, which crosses the antimeridian where that is smaller; null for none. */
export function extentOf(
  geometries: readonly { coordinates?: unknown; geometries?: readonly unknown[] }[],
): Box | null {
  return around(geometries.flatMap(positionsOf).map(([lon, lat]) => ({ west: lon, east: lon, south: lat, north: lat })))
}
