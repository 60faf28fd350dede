import type { GeoJSON } from 'geojson'
import { Camera, inBox, type ScreenPoint, type View } from './camera'
import { MarkerChange, type Moving } from './change'
import styles from './element.css?inline'
import { Feed, type FeedState, type MarkerSource } from './feed'
import { Gestures } from './gestures'
import { drawGraticule, Land, WorldLand } from './land'
import { MarkerList } from './list'
import { isDark } from './looks'
import { describeMarker, keyOf, liftOf, MarkerPainter, type Paint, type PlacedMarker } from './markers'
import { Flight, lessMotion } from './motion'
import { ClusterOutline } from './outline'
import { Popup, Tip } from './popup'
import { type Box, type LonLat, unproject } from './projection'
import { areaLabels, asMarker, drawCircles, drawShapes, type PlacedShape, shapeAt, shapeKey } from './shapes'

/** What a user picked on the map. */
export interface Pick {
  source: string
  placed: PlacedMarker
}

const fitPadding = 60 // CSS pixels around a box that is fitted

/**
 * IdleMap is the element <idle-map>: a map drawn on a canvas, with the markers of its sources. It knows nothing of the
 * service; sources fetch for it.
 *
 * It dispatches "move" with each new view, "rest" when the view has come to rest, "pick" with a Pick when a marker is
 * chosen by pointer or keyboard, "state" with a FeedState, and "popupclose" when its popup has closed by itself.
 */
export class IdleMap extends HTMLElement {
  private readonly camera = new Camera()
  private readonly stage = document.createElement('div')
  private readonly canvas = document.createElement('canvas')
  private readonly painter = new MarkerPainter(() => this.redraw())
  private readonly world = new WorldLand(() => this.redraw())
  private readonly popup = new Popup('Details')
  private readonly tip = new Tip()
  private readonly change = new MarkerChange()
  private readonly outline = new ClusterOutline(() => this.redraw())
  private readonly list: MarkerList
  private readonly flight: Flight
  private feed: Feed | null = null
  private gestures: Gestures | null = null
  private sized: ResizeObserver | null = null
  private dark: MediaQueryList | null = null
  private backdropLand: Land | null = null
  private wantedSources: readonly MarkerSource[] = []
  private markers: PlacedMarker[] = []
  private shapes: PlacedShape[] = []
  private hovered: string | null = null
  private pointer: LonLat | null = null // where it is over the map
  private popupKey: string | null = null // of the marker that the popup belongs to
  private popupBack: HTMLElement | null = null // gets the focus when the popup closes
  private frame = 0
  private paint: Paint | null = null
  private pendingView: View | Box | null = null // asked for before the element had a size

  constructor() {
    super()
    const root = this.attachShadow({ mode: 'open' })
    const style = document.createElement('style')
    style.textContent = styles
    this.stage.className = 'stage'
    this.stage.tabIndex = 0
    this.stage.setAttribute('role', 'application')
    this.stage.setAttribute('aria-label', 'Map. Arrow keys move it, plus and minus zoom, Tab goes to the markers.')
    this.stage.append(this.canvas)
    this.list = new MarkerList(
      (p) => this.emitPick(p),
      () => this.pointed(),
    )
    this.flight = new Flight(
      this.camera,
      () => this.moved(),
      () => this.rested(),
    )
    root.append(style, this.stage, this.list.element, this.tip.element, this.popup.element)
  }

  private readonly escape = (e: KeyboardEvent) => {
    if (e.key === 'Escape') this.hidePopup()
  }

  connectedCallback(): void {
    this.feed = new Feed(
      this.camera,
      () => this.markersChanged(),
      (state) => this.emit<FeedState>('state', state),
    )
    this.feed.sources = this.wantedSources
    this.gestures = new Gestures(this.stage, {
      camera: this.camera,
      moved: () => this.moved(),
      rested: () => this.rested(),
      interrupt: () => this.flight.stop(),
      picked: (at) => this.pickAt(at),
      doubled: (at) => {
        if (!this.markerAt(at)) this.changeZoom(this.camera.zoom + 1, at)
      },
      hovered: (at) => this.hover(at),
    })
    this.sized = new ResizeObserver(() => this.resized())
    this.sized.observe(this)
    this.dark = matchMedia('(prefers-color-scheme: dark)')
    this.dark.addEventListener('change', this.repaint)
    document.addEventListener('keydown', this.escape)
  }

  disconnectedCallback(): void {
    this.feed?.stop() // nothing is fetched for what nobody sees
    this.feed = null
    this.gestures?.stop()
    this.sized?.disconnect()
    this.dark?.removeEventListener('change', this.repaint)
    document.removeEventListener('keydown', this.escape)
    this.flight.stop()
    this.outline.stop()
    this.change.stop()
    cancelAnimationFrame(this.frame)
    this.frame = 0
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
  set sources(sources: readonly MarkerSource[]) {
    this.wantedSources = sources
    if (this.feed) this.feed.sources = sources
  }

  /** Land outlines of the user's own, drawn with the world's. */
  set backdrop(data: GeoJSON) {
    this.backdropLand = Land.of(data)
    this.redraw()
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

  changeZoom(zoom: number, about: ScreenPoint = { x: this.camera.width / 2, y: this.camera.height / 2 }): void {
    const target = new Camera()
    target.width = this.camera.width
    target.height = this.camera.height
    target.view = this.camera.view
    target.zoomAbout(about, zoom)
    this.travelTo(target.view)
  }

  /** Fetches the markers in view again, and looks whether the page's colours have changed. */
  refresh(): void {
    this.feed?.refresh()
    const before = this.paint
    this.paint = null
    if (before && JSON.stringify(before) !== JSON.stringify(this.colours())) this.repaint()
  }

  /** Opens the popup at a marker. Its content is the element's child with slot "popup". */
  showPopup(placed: PlacedMarker): void {
    this.popupKey = keyOf(placed)
    this.popupBack = this.list.focused ?? this.stage
    this.popup.show(placed.map, liftOf(placed.marker))
    this.popup.position(this.camera)
    this.popup.element.focus({ preventScroll: true })
    this.redraw()
  }

  /** The content of the popup has changed. */
  popupChanged(): void {
    this.popup.position(this.camera)
    if (this.popup.open && document.activeElement === document.body) this.popup.element.focus({ preventScroll: true }) // what had it is gone
  }

  hidePopup(): void {
    if (!this.popup.open) return
    const hadFocus = this.contains(document.activeElement)
    this.popup.hide()
    this.popupKey = null
    if (hadFocus) this.popupBack?.focus({ preventScroll: true })
    this.emit('popupclose', null)
    this.redraw()
  }

  private emit<T>(type: string, detail: T): void {
    this.dispatchEvent(new CustomEvent<T>(type, { detail }))
  }

  private emitPick(placed: PlacedMarker): void {
    this.emit<Pick>('pick', { source: placed.source, placed })
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

  private readonly repaint = () => {
    this.paint = null
    this.painter.reset()
    this.redraw()
  }

  private moved(): void {
    this.emit<View>('move', this.camera.view)
    this.redraw()
  }

  private rested(): void {
    if (this.camera.width <= 1) return // not laid out yet
    this.feed?.settle()
    this.updateList()
    this.emit<View>('rest', this.camera.view)
  }

  private markersChanged(): void {
    // The lower are drawn later, and single places over clusters, so that a foot is never covered.
    this.shapes = this.feed?.shapes ?? []
    const old = this.markers
    const order = (p: PlacedMarker | PlacedShape) => p.looks.style.order ?? 0
    this.shapes.sort((a, b) => order(a) - order(b))
    this.markers = (this.feed?.markers ?? []).sort(
      (a, b) => order(a) - order(b) || Number(a.marker.count === 1) - Number(b.marker.count === 1) || a.map.y - b.map.y,
    )
    if (!lessMotion()) this.change.begin(old, this.markers)
    this.updateList()
    this.pointed()
    const key = this.popupKey
    const below = this.markers.find((m) => keyOf(m) === key)
    if (below) this.popup.move(below.map, liftOf(below.marker))
    if (key !== null && !this.markers.some((m) => keyOf(m) === key) && !this.shapes.some((s) => shapeKey(s) === key))
      this.hidePopup()
    this.redraw()
  }

  private updateList(): void {
    const box = this.camera.bounds()
    const all = this.shapes.map((s) => asMarker(s)).concat(this.markers)
    this.list.show(all.filter((m) => inBox(box, m.marker.at)))
  }

  /** The markers about the screen, where they are now. */
  private frames(): (Moving & { at: ScreenPoint })[] {
    const reach = 60
    return this.change
      .frame(this.markers)
      .map((moving) => ({ ...moving, at: this.camera.toScreen(moving.map) }))
      .filter(
        ({ at }) =>
          at.x > -reach && at.y > -reach && at.x < this.camera.width + reach && at.y < this.camera.height + reach,
      )
  }

  private markerAt(at: ScreenPoint): PlacedMarker | null {
    const context = this.canvas.getContext('2d')
    if (!context) return null
    const slop = 3
    const hit = this.frames().findLast(({ placed, at: spot }) => {
      const f = this.painter.frame(context, placed, spot)
      return (
        at.x >= f.left - slop &&
        at.x <= f.left + f.width + slop &&
        at.y >= f.top - slop &&
        at.y <= f.top + f.height + slop
      )
    })
    return hit?.placed ?? null
  }

  /** What lies at a spot of the screen: a marker, or a shape below it. */
  private hit(at: ScreenPoint): PlacedMarker | null {
    const marker = this.markerAt(at)
    if (marker) return marker
    const shape = shapeAt(this.camera, this.shapes, at)
    return shape && asMarker(shape, unproject(this.camera.toMap(at)))
  }

  private hover(at: ScreenPoint | null): void {
    const hit = at && this.hit(at)
    this.pointer = at && unproject(this.camera.toMap(at))
    this.stage.classList.toggle('over', hit !== null)
    const key = hit && keyOf(hit)
    if (key !== this.hovered) {
      this.hovered = key
      this.pointed()
    }
  }

  /** What is pointed at, or has the focus, has changed: show what it covers. */
  private pointed(): void {
    const key = this.list.focusedKey ?? this.hovered
    const placed = this.markers.find((m) => keyOf(m) === key) ?? null
    this.outline.show(
      placed,
      this.wantedSources.find((s) => s.id === placed?.source),
      this.camera.zoom,
    )
    this.redraw()
  }

  private pickAt(at: ScreenPoint): void {
    const hit = this.hit(at)
    this.hidePopup()
    if (hit) this.emitPick(hit)
  }

  /** Shows the name of what is pointed at, or has the focus, unless its popup is open. */
  private showTip(): void {
    const key = this.list.focusedKey ?? this.hovered
    const shape = this.shapes.find((s) => shapeKey(s) === key)
    const placed = this.markers.find((m) => keyOf(m) === key) ?? (shape && asMarker(shape, this.pointer ?? undefined))
    if (!placed || key === this.popupKey) this.tip.hide()
    else {
      this.tip.tell(describeMarker(placed.marker), placed.marker.drawing.tip ?? '')
      this.tip.show(placed.map, liftOf(placed.marker))
      this.tip.position(this.camera)
    }
  }

  private redraw(): void {
    if (this.frame || !this.isConnected) return
    this.frame = requestAnimationFrame(() => {
      this.frame = 0
      this.draw()
    })
  }

  private colours(): Paint {
    if (!this.paint) {
      // A colour as it comes out for the colour scheme of the page, whatever the system's is.
      const get = (name: string) => {
        this.stage.style.color = `var(--${name})`
        return getComputedStyle(this.stage).color
      }
      const [sea, land] = [get('sea'), get('land')]
      this.paint = {
        sea,
        land,
        shore: get('shore'),
        line: get('line'),
        label: get('label'),
        paper: get('paper'),
        ink: get('ink'),
        edge: get('edge'),
        focus: get('focus'),
        dark: isDark(land),
      }
      this.stage.style.color = ''
    }
    return this.paint
  }

  private draw(): void {
    const context = this.canvas.getContext('2d')
    if (!context || this.clientWidth === 0) return
    const density = window.devicePixelRatio || 1
    const { width, height } = this.camera
    if (this.canvas.width !== Math.round(width * density) || this.canvas.height !== Math.round(height * density)) {
      this.canvas.width = Math.round(width * density)
      this.canvas.height = Math.round(height * density)
    }
    context.setTransform(density, 0, 0, density, 0, 0)
    const paint = this.colours()
    context.fillStyle = paint.sea
    context.fillRect(0, 0, width, height)
    drawGraticule(context, this.camera, paint.line, paint.label)
    context.fillStyle = paint.land
    context.strokeStyle = paint.shore
    context.lineWidth = 1
    context.lineJoin = 'round'
    for (const land of [this.world.at(this.camera.zoom), this.backdropLand]) {
      if (!land) continue
      context.beginPath()
      land.trace(context, this.camera)
      context.fill('evenodd')
      context.stroke()
    }
    const focused = this.list.focusedKey
    const raised = new Set([focused, this.popupKey, this.hovered].filter((k) => k !== null))
    drawShapes(context, this.camera, this.shapes, paint, raised)
    drawCircles(context, this.camera, this.markers, paint, raised)
    this.outline.draw(context, this.camera, paint)
    for (const { placed, at, opacity } of this.frames()) {
      context.globalAlpha = opacity
      this.painter.draw(context, placed, at, paint, density, raised.size > 0 && raised.has(keyOf(placed)))
    }
    context.globalAlpha = 1
    if (this.change.running) this.redraw()
    else {
      const shown = this.frames()
      const labelled = shown.filter(({ placed }) => placed.looks.style.labels && placed.marker.kind === 'place')
      const areas = areaLabels(this.camera, this.shapes)
      if (labelled.length + areas.length > 0) {
        this.painter.drawLabels(
          context,
          labelled,
          areas,
          shown.map(({ placed, at }) => this.painter.frame(context, placed, at)),
          paint,
        )
      }
    }
    this.showTip()
    this.popup.position(this.camera)
    const spot = this.popupKey !== null && this.markers.find((m) => keyOf(m) === this.popupKey)
    if (spot && !inBox(this.camera.bounds(), spot.marker.at)) this.hidePopup()
  }
}
