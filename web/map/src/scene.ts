import type { Density } from './density'
import { type Appearance, type Looks, looksIn } from './looks'
import type { Marker } from './marker'
import { place, type Placed } from './placed'
import { markerOf, placeShape, type PlacedShape, type Shape, shapeKey } from './shape'

/** A change to what a source shows: what is new or different, and the keys in the source of what is gone. */
export interface Patch {
  markers?: readonly Marker[]
  shapes?: readonly Shape[]
  removed?: readonly string[]
}

interface SourceContent {
  markers: Map<string, Placed> // by the key of the marker in its source
  shapes: Map<string, PlacedShape>
  densities: readonly Density[]
}

/**
 * Scene is what the map shows of all sources, by key. What has not changed stays the same object, so that pictures made
 * for it are kept. Markers and shapes are in the order in which they are drawn.
 */
export class Scene {
  private readonly sources = new Map<string, SourceContent>()
  private byKey: Map<string, Placed | PlacedShape> | null = null
  private ordered: { markers: Placed[]; shapes: PlacedShape[] } | null = null

  /** The markers, the lowest first. */
  get markers(): readonly Placed[] {
    return this.order().markers
  }

  /** The areas and paths, the lowest first. */
  get shapes(): readonly PlacedShape[] {
    return this.order().shapes
  }

  /** The cells to shade, the lowest first. */
  get densities(): readonly Density[] {
    return [...this.sources.values()].flatMap((c) => c.densities)
  }

  get(key: string | null): Placed | PlacedShape | undefined {
    if (key === null) return undefined
    this.byKey ??= new Map<string, Placed | PlacedShape>([
      ...this.shapes.map((s): [string, PlacedShape] => [s.key, s]),
      ...this.markers.map((p): [string, Placed] => [p.key, p]),
    ])
    return this.byKey.get(key)
  }

  marker(key: string | null): Placed | undefined {
    const found = this.get(key)
    return found && 'marker' in found ? found : undefined
  }

  /** All that can be picked, shapes as what stands at their middle. */
  pickable(): Placed[] {
    return [...this.shapes.map((s) => markerOf(s)), ...this.markers]
  }

  /** Shows these markers, shapes and densities of a source, and none else. */
  replace(
    source: Appearance,
    markers: readonly Marker[],
    shapes: readonly Shape[],
    densities: readonly Density[],
  ): void {
    const before = this.sources.get(source.id)
    const order = (d: Density) => looksIn(source, d.layer).style.order ?? 0
    const now: SourceContent = {
      markers: new Map(),
      shapes: new Map(),
      densities: [...densities].sort((a, b) => order(a) - order(b)),
    }
    for (const m of markers) now.markers.set(m.key, place(source, m, before?.markers.get(m.key)))
    for (const s of shapes) now.shapes.set(shapeKey(s), placeShape(source, s))
    this.sources.set(source.id, now)
    this.changed()
  }

  /** Changes some of what a source shows. */
  patch(source: Appearance, patch: Patch): void {
    const content = this.sources.get(source.id) ?? { markers: new Map(), shapes: new Map(), densities: [] }
    this.sources.set(source.id, content)
    for (const key of patch.removed ?? []) {
      content.markers.delete(key)
      content.shapes.delete(key)
    }
    for (const m of patch.markers ?? []) content.markers.set(m.key, place(source, m, content.markers.get(m.key)))
    for (const s of patch.shapes ?? []) content.shapes.set(shapeKey(s), placeShape(source, s))
    this.changed()
  }

  /** Shows only the given sources from now on. */
  keepOnly(sources: readonly string[]): void {
    for (const id of this.sources.keys()) if (!sources.includes(id)) this.sources.delete(id)
    this.changed()
  }

  private changed(): void {
    this.byKey = this.ordered = null
  }

  private order(): { markers: Placed[]; shapes: PlacedShape[] } {
    if (this.ordered) return this.ordered
    const contents = [...this.sources.values()]
    const order = (p: { looks: Looks }) => p.looks.style.order ?? 0
    // The lower are drawn later, and single places over clusters, so that a foot is never covered.
    const markers = contents
      .flatMap((c) => [...c.markers.values()])
      .sort((a, b) => order(a) - order(b) || Number(a.marker.count === 1) - Number(b.marker.count === 1) || a.y - b.y)
    const shapes = contents.flatMap((c) => [...c.shapes.values()]).sort((a, b) => order(a) - order(b))
    return (this.ordered = { markers, shapes })
  }
}
