import type { GeoJSON } from 'geojson'
import { Camera, inBox, type ScreenPoint, type View } from './camera'
import styles from './element.css?inline'
import type { IdleMapEvents, Picked } from './events'
import { cellAt, type Density, placesIn } from './density'
import { Feed, type FeedState, type MarkerSource } from './feed'
import { Flight, lessMotion } from './flight'
import { focusIsSomewhere, hasFocus } from './focus'
import { FrameLoop } from './frames'
import { CircleLayer } from './layers/circles'
import { DensityLayer } from './layers/density'
import { LabelLayer } from './layers/labels'
import { LandLayer } from './layers/land'
import type { Layer, Standing } from './layers/layer'
import { MarkerLayer } from './layers/markers'
import { ClusterOutline } from './layers/outline'
import { ShapeLayer } from './layers/shapes'
import { MarkerList } from './list'
import { Popup, Tip } from './popup'
import { type Box, type Position, unproject } from './projection'
import type { Placed } from './placed'
import { type Patch, Scene } from './scene'
import { markerOf } from './shape'
import { Seldom } from './seldom'
import { Stage } from './stage'
import { watchSurroundings } from './surroundings'
import { Teller } from './teller'
import { Carrier } from './tools/carry'
import { type Overlay, overlaySlot } from './tools/overlay'
import { Pointer } from './tools/point'
import type { Snap } from './tools/snap'
import { Hands } from './tools/tool'
import { Traveller } from './tools/travel'
import { englishWords, type Words } from './words'

const fitPadding = 60 // CSS pixels around a box that is fitted

const sheet = new CSSStyleSheet()
sheet.replaceSync(styles)

/**
 * IdleMap is the element <idle-map>: a map with the markers, areas and paths of its sources. It knows nothing of the
 * service; sources fetch for it. Its events are those of IdleMapEvents. Its colours are the custom properties
 * --idle-map-sea, -land, -shore, -line, -label, -paper, -ink, -edge and -focus; its parts are stage, popup and tip.
 * A child with slot "popup" is what the popup shows.
 */
export class IdleMap extends HTMLElement {
  private readonly camera = new Camera()
  private readonly scene = new Scene()
  private readonly loop = new FrameLoop(() => this.draw())
  private readonly land = new LandLayer(() => this.redrawAll())
  private readonly shading = new DensityLayer(this.scene)
  private readonly shapes = new ShapeLayer(this.camera, this.scene)
  private readonly circles = new CircleLayer(this.scene)
  private readonly markers = new MarkerLayer(this.camera, this.scene, () => this.loop.ask())
  private readonly outline = new ClusterOutline(() => this.loop.ask())
  private readonly labels = new LabelLayer(this.scene, this.markers)
  private readonly overlaid = overlaySlot()
  private readonly layers: { base: readonly Layer[]; over: Layer[] } = {
    base: [this.land, this.shading, this.shapes, this.circles],
    over: [this.shapes.raised, this.circles.raised, this.outline, this.markers, this.labels, this.overlaid],
  }
  private readonly stage = new Stage(this.camera, this.layers, () => this.resized())
  private readonly popup = new Popup()
  private readonly tip = new Tip()
  private readonly teller = new Teller()
  private readonly list = new MarkerList(
    (p) => this.emitPick(p),
    () => this.pointed(),
  )
  private readonly listing = new Seldom(() => this.list.show(this.inView(), this.spoken))
  private readonly flight = new Flight(
    this.camera,
    this.loop,
    () => this.moved(),
    () => this.rested(),
  )
  private feed: Feed | null = null
  private feedState: FeedState = 'loading'
  private connection: AbortController | null = null
  private wantedSources: readonly MarkerSource[] = []
  private spoken = englishWords
  private hovered: string | null = null
  private pointer: Position | null = null // where it is over the map
  private popupKey: string | null = null // of what the popup belongs to
  private popupBack: HTMLElement | null = null // gets the focus when the popup closes
  private pendingView: View | Box | null = null // asked for before the element had a size

  constructor() {
    super()
    const root = this.attachShadow({ mode: 'open' })
    root.adoptedStyleSheets = [sheet]
    root.append(this.stage.element, this.list.element, this.teller.element, this.tip.element, this.popup.element)
    this.speak({})
  }

  connectedCallback(): void {
    for (const name of ['words', 'backdrop', 'sources', 'view', 'placing'] as const) this.adopt(name)
    const connection = (this.connection = new AbortController())
    const { signal } = connection
    this.feed = new Feed(
      this.camera,
      this.scene,
      () => this.sceneChanged(),
      (state) => this.fed(state),
    )
    this.feed.sources = this.wantedSources
    const hands = new Hands(this.stage.element, [
      this.overlaid,
      new Carrier({
        at: (at) => this.movableAt(at),
        carried: (placed, to, held) => this.carried(placed, to, held),
      }),
      new Traveller(this.camera, {
        moved: () => this.moved(),
        rested: () => this.rested(),
        interrupt: () => this.flight.stop(),
      }),
      new Pointer({
        picked: (at) => this.pickAt(at),
        doubled: (at) => {
          if (!this.markers.hit(at)) this.changeZoom(this.camera.zoom + 1, at)
        },
        hovered: (at) => this.hover(at),
      }),
    ])
    signal.addEventListener('abort', () => hands.stop())
    this.stage.start()
    this.loop.start()
    watchSurroundings(
      () => this.recolour(),
      () => this.redrawAll(),
      signal,
    )
    document.addEventListener('keydown', (e) => e.key === 'Escape' && this.hidePopup(), { signal })
  }

  disconnectedCallback(): void {
    this.connection?.abort()
    this.feed?.stop() // nothing is fetched for what nobody sees
    this.feed = null
    this.flight.stop()
    this.outline.stop()
    this.stage.stop()
    this.loop.stop()
    this.listing.stop()
    this.teller.stop()
    this.markers.transition.stand(this.spread())
  }

  /** Where the map looks. Setting it moves there at once. */
  get view(): View {
    return this.camera.view
  }

  set view(v: View) {
    this.flight.stop()
    this.pendingView = this.camera.width > 1 ? null : v
    this.camera.view = v
    this.moved()
    this.rested()
  }

  /** The box in view. */
  get bounds(): Box {
    return this.camera.bounds()
  }

  /** The sources whose markers are shown. */
  get sources(): readonly MarkerSource[] {
    return this.wantedSources
  }

  set sources(sources: readonly MarkerSource[]) {
    const { over } = this.layers
    const above = over.indexOf(this.markers) + 1
    over.splice(above, over.indexOf(this.labels) - above, ...sources.flatMap((s) => s.layer ?? []))
    this.wantedSources = sources
    if (this.feed) this.feed.sources = sources
  }

  /** The cells that are shaded, as they were fetched last. */
  get densities(): readonly Density[] {
    return this.scene.densities
  }

  /** Land outlines of the app's own, drawn over the world's. */
  set backdrop(data: GeoJSON | null) {
    this.land.backdrop = data
  }

  /** What the map says in words; what is left out stays English. */
  set words(words: Partial<Words>) {
    this.speak(words)
    this.listing.now()
  }

  private speak(words: Partial<Words>): void {
    this.spoken = { ...englishWords, ...words }
    this.stage.element.setAttribute('aria-label', this.spoken.map)
    this.popup.element.setAttribute('aria-label', this.spoken.popup)
  }

  /** Changes some of what a source shows, between the times when it is fetched anew. */
  patch(source: string, patch: Patch): void {
    const from = this.wantedSources.find((s) => s.id === source)
    if (!from) throw new RangeError(`the map has no source ${JSON.stringify(source)}`)
    this.scene.patch(from, patch)
    this.sceneChanged()
  }

  /** Moves to a view in a smooth motion. */
  travelTo(view: View): void {
    this.flight.to(view)
  }

  /** Shows a box, in a smooth motion or at once. */
  fit(box: Box, smoothly = true): void {
    if (this.camera.width <= 1) {
      this.pendingView = box
      return
    }
    const view = this.camera.viewOf(box, Math.min(fitPadding, this.camera.width / 6))
    if (smoothly) this.travelTo(view)
    else this.view = view
  }

  /** Zooms in a smooth motion about a spot of the screen, which stays where it is: the middle if none is given. */
  changeZoom(zoom: number, about: ScreenPoint = { x: this.camera.width / 2, y: this.camera.height / 2 }): void {
    const target = this.camera.copy()
    target.zoomAbout(about, zoom)
    this.travelTo(target.view)
  }

  /** Fetches what is in view again. */
  refresh(): void {
    this.feed?.refresh()
  }

  /** Opens the popup at what was picked. */
  showPopup(picked: Picked): void {
    const key = `${picked.source}/${picked.marker.key}`
    const standing = this.describe(key, picked.marker.at)
    if (!standing) return
    this.popupKey = key
    this.popupBack = this.list.focused ?? this.stage.element
    this.popup.show(standing.placed, standing.lift)
    this.popup.position(this.camera)
    this.popup.element.focus({ preventScroll: true })
    this.loop.ask()
  }

  /** The content of the popup has changed its size, or lost what had the focus. */
  popupChanged(): void {
    this.popup.position(this.camera)
    if (this.popup.open && !focusIsSomewhere(this)) this.popup.element.focus({ preventScroll: true })
  }

  hidePopup(): void {
    if (!this.popup.open) return
    const hadFocus = hasFocus(this)
    this.popup.hide()
    this.popupKey = null
    if (hadFocus) this.popupBack?.focus({ preventScroll: true })
    this.emit('dismiss', null)
    this.loop.ask()
  }

  private emit<T extends keyof IdleMapEvents>(type: T, detail: IdleMapEvents[T]['detail']): void {
    this.dispatchEvent(new CustomEvent(type, { detail }))
  }

  private emitPick({ source, marker }: Placed): void {
    this.emit('pick', { source, marker })
  }

  /** A property that was set on the element before its class was known is set anew, so that its setter sees it. */
  private adopt(name: 'words' | 'backdrop' | 'sources' | 'view' | 'placing'): void {
    if (!Object.hasOwn(this, name)) return
    const value = this[name] as never
    delete (this as Partial<IdleMap>)[name]
    this[name] = value
  }

  private resized(): void {
    this.camera.resize(this.clientWidth, this.clientHeight)
    const pending = this.pendingView
    if (pending && this.clientWidth > 1) {
      this.pendingView = null
      if ('centre' in pending) this.view = pending
      else this.fit(pending, false)
    }
    this.moved()
    this.rested()
  }

  private recolour(): void {
    if (!this.stage.recolour()) return
    this.markers.reset()
    this.loop.ask()
  }

  private redrawAll(): void {
    this.stage.spoil()
    this.loop.ask()
  }

  private moved(): void {
    this.emit('travel', this.camera.view)
    this.redrawAll()
  }

  private rested(): void {
    if (this.camera.width <= 1) return // not laid out yet
    this.feed?.settle()
    this.listing.now()
    this.emit('rest', this.camera.view)
    this.teller.tell(this.camera.view, () => {
      const inView = this.inView().map((p) => p.marker)
      return this.spoken.inView(this.camera.zoom, inView, placesIn(this.camera.bounds(), this.scene.densities))
    })
  }

  private fed(state: FeedState): void {
    // What a new view lacked is there: whoever is told so finds it in the list.
    if (state === 'settled' && this.feedState !== 'settled') this.listing.now()
    this.feedState = state
    this.emit('state', state)
  }

  private sceneChanged(): void {
    const { transition } = this.markers
    const markers = this.spread()
    const moving = !lessMotion() && transition.begin(markers, performance.now())
    if (moving) this.loop.run((now) => transition.advance(now))
    else transition.stand(markers)
    this.listing.ask()
    this.pointed()
    const standing = this.popupKey !== null ? this.describe(this.popupKey) : null
    if (this.popupKey !== null && !standing) this.hidePopup()
    else if (standing && standing.placed.marker.kind !== 'shape') this.popup.move(standing.placed, standing.lift)
    this.redrawAll()
  }

  /** Gives the sources that draw their markers theirs, and returns the others. */
  private spread(): readonly Placed[] {
    let { markers } = this.scene
    for (const { id, layer } of this.wantedSources) {
      if (!layer) continue
      const own = (p: Placed) => p.source === id
      layer.show(markers.filter(own), this.loop)
      markers = markers.filter((p) => !own(p))
    }
    return markers
  }

  private inView(): Placed[] {
    const box = this.camera.bounds()
    return this.scene.pickable().filter((p) => inBox(box, p.marker.at))
  }

  /** What lies at a spot of the screen, the topmost. */
  private hit(at: ScreenPoint): Placed | null {
    for (const layer of this.layers.over.toReversed()) {
      const hit = layer.hit?.(at)
      if (hit) return hit
    }
    return null
  }

  /** Where what has a key stands; a shape stands wherever it was picked. */
  private describe(key: string, at?: Position): Standing | null {
    for (const layer of this.layers.over.toReversed()) {
      const standing = layer.describe?.(key)
      if (!standing) continue
      const shape = this.scene.get(key)
      return at && shape && 'shape' in shape ? { ...standing, placed: markerOf(shape, at) } : standing
    }
    return null
  }

  private hover(at: ScreenPoint | null): void {
    const hit = at && this.hit(at)
    this.pointer = at && unproject(this.camera.toMap(at))
    this.stage.element.classList.toggle('over', hit !== null)
    const key = hit && hit.key
    if (key !== this.hovered) {
      this.hovered = key
      this.pointed()
    } else if (key !== null || this.scene.densities.length > 0) this.loop.ask() // the tip goes with the pointer
  }

  /** What is pointed at, or has the focus, has changed: show what it covers. */
  private pointed(): void {
    const placed = this.scene.marker(this.list.focusedKey ?? this.hovered) ?? null
    this.outline.show(
      placed,
      this.wantedSources.find((s) => s.id === placed?.source),
      this.camera.zoom,
    )
    this.loop.ask()
  }

  /** What lies over the map, and gets pointers and keys first, such as a Sketch; null for nothing. */
  get overlay(): Overlay | null {
    return this.overlaid.overlay
  }

  set overlay(overlay: Overlay | null) {
    this.overlaid.cancel()
    this.overlaid.overlay = overlay
    overlay?.laid(this.camera, () => this.loop.ask())
    this.loop.ask()
  }

  /** A click gives a position instead of picking what is there. */
  get placing(): boolean {
    return this.stage.element.classList.contains('placing')
  }

  set placing(on: boolean) {
    this.stage.element.classList.toggle('placing', on)
  }

  /** Where what is placed, carried or drawn goes instead of where the pointer is; null for just there. */
  snap: Snap | null = null

  /** The position of a spot of the screen for what is put there. */
  positionAt(at: ScreenPoint): Position {
    return this.snap?.(at, this.camera, this.scene) ?? unproject(this.camera.toMap(at))
  }

  private movableAt(at: ScreenPoint): { placed: Placed; stands: ScreenPoint } | null {
    const placed = this.hit(at)
    if (!placed || !this.wantedSources.find((s) => s.id === placed.source)?.movable) return null
    return { placed, stands: this.camera.toScreen(placed) }
  }

  private carried({ source, marker }: Placed, to: ScreenPoint, held: boolean): void {
    this.emit('carry', { source, marker, to: this.positionAt(to), held })
  }

  private pickAt(at: ScreenPoint): void {
    if (this.placing || this.overlay) {
      this.emit('spot', this.positionAt(at))
      return
    }
    const hit = this.hit(at)
    this.hidePopup()
    if (hit) this.emitPick(hit)
  }

  /** Shows the name of what is pointed at, or has the focus, unless its popup is open. */
  private showTip(): void {
    const focused = this.list.focusedKey
    const key = focused ?? this.hovered
    const standing = key !== null && key !== this.popupKey ? this.describe(key, this.pointer ?? undefined) : null
    if (!standing) {
      const cell = key === null && this.pointer ? cellAt(this.pointer, this.scene.densities) : null
      if (cell) {
        const [, , , number, places] = cell.said
        this.tip.tell(this.spoken.cell(cell.says, number, places), '')
        this.tip.show(cell.top, 0)
        this.tip.position(this.camera)
      } else this.tip.hide()
      return
    }
    const { placed, lift } = standing
    this.tip.tell(this.spoken.marker(placed.marker), placed.marker.drawing.tip ?? '')
    this.tip.show(placed, lift)
    this.tip.position(this.camera)
  }

  private draw(): void {
    const keys = [this.list.focusedKey, this.popupKey, this.hovered]
    if (this.stage.draw(new Set(keys.filter((k) => k !== null)), () => this.markers.boxes())) this.loop.ask()
    this.showTip()
    const moving = this.popupKey !== null ? this.describe(this.popupKey) : null
    if (moving?.placed.marker.device) this.popup.move(moving.placed, moving.lift)
    this.popup.position(this.camera)
    const spot = this.scene.marker(this.popupKey)
    if (spot && !inBox(this.camera.bounds(), spot.marker.at)) this.hidePopup()
  }
}

/** The listeners of <idle-map> are typed by its events. */
export interface IdleMap {
  addEventListener<T extends keyof IdleMapEvents>(
    type: T,
    listener: (this: IdleMap, e: IdleMapEvents[T]) => unknown,
    options?: boolean | AddEventListenerOptions,
  ): void
  addEventListener(
    type: string,
    listener: EventListenerOrEventListenerObject,
    options?: boolean | AddEventListenerOptions,
  ): void
}
