import type { MarkerSource } from '../feed'
import { type MapPoint, shortWay, unproject } from '../projection'
import type { Snap } from '../tools/snap'

const reach = 12 // CSS pixels

/**
 * Makes what is placed, carried or drawn go onto a place or a corner of an area or path that is near, as it is shown.
 * What is edited itself is passed over: its layer and id tell it.
 */
export function snapToNear(edited: { layer: string; id: string | null }): Snap {
  return (at, camera, scene) => {
    const spot = camera.toMap(at)
    let nearest = reach / camera.scale
    let found: MapPoint | null = null
    const look = (p: MapPoint): void => {
      const away = Math.hypot(shortWay(spot.x, p.x), p.y - spot.y)
      if (away > nearest) return
      nearest = away
      found = p
    }
    const isEdited = (o: { layer?: string | undefined; id: string }) => o.layer === edited.layer && o.id === edited.id
    for (const m of scene.markers)
      if (m.marker.kind !== 'cluster' && !isEdited(m.marker) && !(m.drawn as MarkerSource).movable) look(m)
    for (const s of scene.shapes) {
      if (isEdited(s.shape)) continue
      for (const line of [...s.areas.flat(), ...s.lines])
        for (let i = 0; i < line.length; i += 2) look({ x: line[i] ?? 0, y: line[i + 1] ?? 0 })
      s.dots.forEach(look)
    }
    return found && unproject(found)
  }
}
