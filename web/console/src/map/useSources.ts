import type { MarkerSource } from '@idlebeacon/map'
import type { Collection } from '../api/collections'
import { type Chosen, everything } from '../api/selection'
import { fetchMarkers, fetchOutline, fetchShapes } from '../api/view'
import { useStyles } from '../stores/styles'

/**
 * Makes the sources of the map from collections and what is chosen of them. A source is made anew only when what it
 * draws changes, so that an update of a count does not fetch all again.
 */
export function useSources(): (shown: readonly Collection[], chosen: ReadonlyMap<string, Chosen>) => MarkerSource[] {
  const styles = useStyles()
  const sources = new Map<string, { key: string; source: MarkerSource }>()

  function sourceOf(c: Collection, mine: Chosen): MarkerSource[] {
    const styled = styles.styles.get(c.id)
    if (!styled) return [] // soon
    const categories = c.categories.map((k) => k.category)
    const key = JSON.stringify([categories, mine, c.shapes > 0, styled.style])
    const known = sources.get(c.id)
    if (known?.key === key) return [known.source]
    const viewport = { collection: c.id, chosen: mine, categories }
    const source: MarkerSource = {
      id: c.id,
      looks: styled.looks,
      load: (box, zoom, signal) => fetchMarkers(viewport, box, zoom, signal),
      outline: (marker, zoom, signal) => fetchOutline(viewport, marker, zoom, signal),
    }
    if (c.shapes > 0) source.shapes = (box, zoom, signal) => fetchShapes(viewport, box, zoom, signal)
    sources.set(c.id, { key, source })
    return [source]
  }

  return (shown, chosen) => shown.flatMap((c) => sourceOf(c, chosen.get(c.id) ?? everything))
}
