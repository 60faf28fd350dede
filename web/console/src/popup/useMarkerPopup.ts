import type { IdleMap, Picked } from '@idlebeacon/map'
import { nextTick, type Ref, shallowRef } from 'vue'

/** The popup of a map: what it shows, and what a pick does. */
export function useMarkerPopup(map: Readonly<Ref<IdleMap | null>>) {
  const opened = shallowRef<Picked | null>(null) // what the popup shows

  /** Opens a cluster, or the popup of a place, an area or a path. */
  function pick(picked: Picked): void {
    const { count, extent, opensAt } = picked.marker
    if (count > 1 && opensAt !== null && extent) {
      const east = extent.west > extent.east ? extent.east + 360 : extent.east
      map.value?.travelTo({
        centre: { lon: (extent.west + east) / 2, lat: (extent.south + extent.north) / 2 },
        zoom: opensAt,
      })
      return
    }
    opened.value = picked
    void nextTick(() => map.value?.showPopup(picked))
  }

  const dismissed = () => (opened.value = null)
  return { opened, pick, dismissed }
}
