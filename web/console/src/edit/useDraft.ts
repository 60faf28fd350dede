import { type IdleMap, Looks, type Marker, type MarkerSource, type Position } from '@idlebeacon/map'
import { onUnmounted, watch, type Ref } from 'vue'

const id = 'draft'
const looks = new Looks({ default: { icon: 'star', colour: '#b3261e' }, order: 1e6 })

const markerAt = (at: Position): Marker => ({
  key: id,
  kind: 'place',
  at,
  name: 'The place you are editing',
  id: '',
  category: '',
  drawing: {},
  count: 1,
  tally: [],
  opensAt: null,
  extent: null,
  stacked: [],
})

/**
 * Shows on a map where the place of a form is: a marker that is dragged, or that moves to where the map is clicked. Its
 * source is handed to whoever owns the sources of the map.
 */
export function useDraft(map: IdleMap, at: Ref<Position | null>, hand: (sources: MarkerSource[]) => void): void {
  const source: MarkerSource = {
    id,
    looks,
    movable: true,
    load: () => Promise.resolve(at.value ? [markerAt(at.value)] : []),
    current: () => true,
  }
  const listening = new AbortController()
  const { signal } = listening
  map.addEventListener('spot', (e) => at.value && (at.value = e.detail), { signal })
  map.addEventListener('carry', (e) => e.detail.source === id && (at.value = e.detail.to), { signal })
  watch(
    () => at.value !== null,
    (some) => {
      hand(some ? [source] : [])
      map.placing = some
    },
    { immediate: true },
  )
  watch(at, (now) => {
    if (now && map.sources.includes(source)) map.patch(id, { markers: [markerAt(now)] })
  })
  onUnmounted(() => {
    listening.abort()
    map.placing = false
    hand([])
  })
}
