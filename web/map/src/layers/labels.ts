import { BoxGrid, type ScreenBox } from '../grid'
import type { Scene } from '../scene'
import { type PlacedShape, widestStretch } from '../shape'
import type { Drawing, Layer } from './layer'
import type { MarkerLayer } from './markers'

const roomShare = 1.3 // times the room in an area, which a name may take
const leastRoom = 30 // CSS pixels
const longest = 28 // characters

/** LabelLayer writes names beside places and into areas, those that do not run into what is there already. */
export class LabelLayer implements Layer {
  private readonly stretches = new WeakMap<PlacedShape, ReturnType<typeof stretchesOf>>()

  constructor(
    private readonly scene: Scene,
    private readonly markers: MarkerLayer,
  ) {}

  draw(d: Drawing): void {
    if (this.markers.transition.running) return // names would flicker
    const labelled = this.markers.labelled()
    const areas = this.scene.shapes.filter((s) => s.looks.style.labels && s.shape.name)
    if (labelled.length + areas.length === 0) return
    const { context, camera } = d
    const written = new BoxGrid()
    context.font = '12px system-ui, sans-serif'
    context.textBaseline = 'middle'
    context.lineJoin = 'round'
    for (const { placed, at } of labelled) {
      const b = this.markers.boxOf(placed, at)
      const right = b.left + b.width + 3
      this.write(d, placed.marker.name, written, (width) => [{ left: right, top: b.top + 4, width, height: 16 }])
    }
    for (const s of areas) {
      const spots = this.stretchesOf(s)
        .map(({ at, width }) => ({ at: camera.toScreen(at), room: width * camera.scale - 8 }))
        .filter(
          ({ at, room }) => room > leastRoom && at.x > 0 && at.x < camera.width && at.y > 0 && at.y < camera.height,
        )
      if (spots.length === 0) continue
      this.write(d, s.shape.name, written, (width) =>
        spots
          .filter(({ room }) => width <= roomShare * room)
          .map(({ at }) => ({ left: at.x - width / 2, top: at.y - 8, width, height: 16 })),
      )
    }
    context.textBaseline = 'alphabetic'
  }

  /** Writes a name into the first of some boxes that is free. */
  private write(d: Drawing, name: string, written: BoxGrid, boxes: (width: number) => ScreenBox[]): void {
    const { context, paint } = d
    const text = name.length > longest ? `${name.slice(0, longest - 1)}…` : name
    if (!text) return
    const taken = this.markers.boxes()
    const box = boxes(context.measureText(text).width).find((b) => !taken.taken(b) && !written.taken(b))
    if (!box) return
    written.add(box, 0)
    context.strokeStyle = paint.paper
    context.lineWidth = 3
    context.strokeText(text, box.left, box.top + 8)
    context.fillStyle = paint.ink
    context.fillText(text, box.left, box.top + 8)
  }

  private stretchesOf(s: PlacedShape) {
    const known = this.stretches.get(s) ?? stretchesOf(s)
    this.stretches.set(s, known)
    return known
  }
}

/** If the name of a shape may be written: across its areas, where they are widest, the best first. */
function stretchesOf(s: PlacedShape) {
  return s.areas.flatMap((rings) => [0.5, 0.75, 0.25].flatMap((share) => widestStretch(rings, share) ?? []))
}
