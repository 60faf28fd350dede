import { Looks, type MarkerSource } from '@idlebeacon/map'
import type { Collection } from '../api/collections'
import { fetchMarkersOf, fetchOutlineOf, fetchShapesOf, type Layer } from '../api/layers'
import { type Chosen, everything } from '../api/selection'
import { type Styled, useStyles } from '../stores/styles'

const plain = new Looks({}) // of clusters, which have the colours of what is in them

/** What is shown of some collections, as layers in the order of the legend. */
export function layersOf(
  shown: readonly Collection[],
  chosen: ReadonlyMap<string, Chosen>,
  styles: ReadonlyMap<string, Styled>,
): Layer[] {
  return shown.map((c) => ({
    collection: c.id,
    title: c.title,
    chosen: chosen.get(c.id) ?? everything,
    categories: c.categories.map((k) => k.category),
    apart: styles.get(c.id)?.style.apart ?? false,
  }))
}

/**
 * Makes the source of the map from collections and what is chosen of them: their places gather together. It is made anew
 * only when what it draws changes, so that an update of a count does not fetch all again.
 */
export function useSources(): (shown: readonly Collection[], chosen: ReadonlyMap<string, Chosen>) => MarkerSource[] {
  const styles = useStyles()
  let known: { key: string; source: MarkerSource } | null = null

  return (shown, chosen) => {
    const styled = shown.flatMap((c) => {
      const of = styles.styles.get(c.id)
      return of ? [{ c, ...of }] : [] // soon
    })
    if (styled.length === 0) return []
    const layers = layersOf(
      styled.map((s) => s.c),
      chosen,
      styles.styles,
    )
    const withShapes = layers.filter((l) => styled.some(({ c }) => c.id === l.collection && c.shapes > 0))
    const key = JSON.stringify([layers, withShapes.map((l) => l.collection), styled.map((s) => s.style)])
    if (known?.key === key) return [known.source]
    const source: MarkerSource = {
      id: 'together',
      looks: plain,
      layers: new Map(styled.map(({ c, looks }) => [c.id, looks])),
      load: (box, zoom, signal) => fetchMarkersOf(layers, box, zoom, signal),
      outline: (marker, zoom, signal) => fetchOutlineOf(layers, marker, zoom, signal),
    }
    if (withShapes.length > 0) source.shapes = (box, zoom, signal) => fetchShapesOf(withShapes, box, zoom, signal)
    known = { key, source }
    return [source]
  }
}
