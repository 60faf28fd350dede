import { Looks, type MarkerSource } from '@idlebeacon/map'
import { storeToRefs } from 'pinia'
import type { Collection } from '../api/collections'
import { fetchDensitiesOf, fetchMarkersOf, fetchOutlineOf, fetchShapesOf, type Layer, pathsOf } from '../api/layers'
import { follow, isLive } from '../api/live'
import { calledIn } from '../api/numbers'
import { type Chosen, everything } from '../api/selection'
import { type Styled, useStyles } from '../stores/styles'

const plain = new Looks({}) // of clusters, which have the colours of what is in them

const mostTogether = 32 // collections that the service shows in one answer

/**
 * What is shown of the collections whose styles are known, as layers in the order of the legend. They gather in groups,
 * of which there is one unless they are very many.
 */
export function layersOf(
  shown: readonly Collection[],
  chosen: ReadonlyMap<string, Chosen>,
  styles: ReadonlyMap<string, Styled>,
): Layer[][] {
  const groups: Layer[][] = []
  for (const c of shown) {
    const styled = styles.get(c.id)
    if (!styled) continue // soon
    const last = groups.at(-1)
    const group = last && last.length < mostTogether ? last : []
    if (group !== last) groups.push(group)
    group.push({
      collection: c.id,
      title: c.title,
      chosen: chosen.get(c.id) ?? everything,
      categories: c.categories.map((k) => k.category),
      apart: styled.style.apart ?? false,
      badge: styled.style.badge && {
        ...styled.style.badge,
        name: calledIn(styled.style, styled.style.badge.property ?? ''),
      },
      density: styled.style.density && { ...styled.style.density, zooms: styled.style.zooms },
    })
  }
  return groups
}

/** The id of the source of a group of layers. */
export const sourceOf = (group: number) => `together ${group}`

/**
 * Makes the sources of the map from collections and what is chosen of them, one for each group that gathers. One is
 * made anew only when what it draws changes, so that an update of a count does not fetch all again.
 */
export function useSources(): (shown: readonly Collection[], chosen: ReadonlyMap<string, Chosen>) => MarkerSource[] {
  const { styles } = storeToRefs(useStyles())
  const sources = new Map<string, { key: string; source: MarkerSource }>()

  function sourceFor(id: string, layers: readonly Layer[], shown: readonly Collection[]): MarkerSource {
    const styled = layers.flatMap((l) => styles.value.get(l.collection) ?? [])
    const withShapes = layers.filter((l) => shown.some((c) => c.id === l.collection && c.shapes > 0))
    const key = JSON.stringify([layers, withShapes.map((l) => l.collection), styled.map((s) => s.style)])
    const known = sources.get(id)
    if (known?.key === key) return known.source
    const source: MarkerSource = {
      id,
      looks: plain,
      layers: new Map(styled.map(({ looks }, i) => [layers[i]?.collection ?? '', looks])),
      load: (box, zoom, signal) => fetchMarkersOf(layers, box, zoom, signal),
      outline: (marker, zoom, signal) => fetchOutlineOf(layers, marker, zoom, signal),
      follow: (box, zoom, changed, signal) => {
        for (const path of pathsOf(layers, withShapes, box, zoom)) follow(path, changed, signal)
      },
      current: () => isLive() && !source.densities, // shaded cells are asked for
    }
    if (withShapes.length > 0) source.shapes = (box, zoom, signal) => fetchShapesOf(withShapes, box, zoom, signal)
    if (layers.some((l) => l.density))
      source.densities = (box, zoom, signal) => fetchDensitiesOf(layers, box, zoom, signal)
    sources.set(id, { key, source })
    return source
  }

  return (shown, chosen) =>
    layersOf(shown, chosen, styles.value).map((layers, group) => sourceFor(sourceOf(group), layers, shown))
}
