import { type Camera, covers, gridBox, stepOf } from './camera'
import type { Density } from './density'
import type { OwnLayer } from './layers/layer'
import type { Appearance } from './looks'
import type { Marker } from './marker'
import type { Box, Position } from './projection'
import type { Scene } from './scene'
import type { Shape } from './shape'

/** Where markers come from: of one collection, or of several layers that gather together. */
export interface MarkerSource extends Appearance {
  /** Fetches the markers of a box at a zoom. */
  load(box: Box, zoom: number, signal: AbortSignal): Promise<Marker[]>
  /** Fetches the areas and paths of a box at a zoom, the lowest first. */
  shapes?(box: Box, zoom: number, signal: AbortSignal): Promise<Shape[]>
  /** Fetches the cells to shade of a box at a zoom, of what is drawn as density. */
  densities?(box: Box, zoom: number, signal: AbortSignal): Promise<Density[]>
  /** Its markers may be dragged. */
  movable?: boolean
  /** Draws its markers; the map does if there is none. */
  layer?: OwnLayer
  /**
   * Calls changed when what is loaded of a box at a zoom is not as it was any more, until the signal. As long as
   * current() is true it does so at once, and nothing is asked for again by itself.
   */
  follow?(box: Box, zoom: number, changed: () => void, signal: AbortSignal): void
  current?(): boolean
  /** Fetches the area that a cluster's places cover: rings of positions. */
  outline?(marker: Marker, zoom: number, signal: AbortSignal): Promise<Position[][]>
}

/** How the fetching of markers stands. */
export type FeedState = 'loading' | 'settled' | 'failed'

const margin = 0.15 // of the screen on each side, fetched with it so that small pans need no wait
const refreshEvery = 5_000 // ms; what others changed shows by then where it is not followed
const firstRetry = 1000 // ms
const longestRetry = 15_000

/**
 * Feed keeps what the scene shows that of the view: it asks each source when the view has settled, and lets go of
 * answers that are out of date.
 */
export class Feed {
  private channels = new Map<string, Channel>()
  private readonly timer: number

  constructor(
    private readonly camera: Camera,
    private readonly scene: Scene,
    private readonly onChange: () => void,
    private readonly onState: (state: FeedState) => void,
  ) {
    this.timer = window.setInterval(() => {
      if (document.hidden || this.camera.width <= 1) return
      for (const c of this.channels.values()) if (!c.source.current?.()) c.want(true)
    }, refreshEvery)
  }

  stop(): void {
    clearInterval(this.timer)
    for (const c of this.channels.values()) c.stop()
    this.channels.clear()
  }

  set sources(sources: readonly MarkerSource[]) {
    const old = this.channels
    this.channels = new Map()
    for (const source of sources) {
      // What a source showed stays until what it shows now is there.
      const kept = old.get(source.id)
      if (kept && kept.source !== source) kept.stop()
      const same = kept && kept.source === source
      this.channels.set(source.id, same ? kept : new Channel(source, this.camera, this.scene, this.changed))
      old.delete(source.id)
    }
    for (const gone of old.values()) gone.stop()
    this.scene.keepOnly(sources.map((s) => s.id))
    this.settle()
    this.changed()
  }

  get sources(): readonly MarkerSource[] {
    return [...this.channels.values()].map((c) => c.source)
  }

  /** The view has come to rest: fetch what it lacks. */
  settle(): void {
    for (const c of this.channels.values()) c.want(false)
  }

  /** Fetch again what is shown. */
  refresh(): void {
    for (const c of this.channels.values()) c.want(true)
  }

  private readonly changed = () => {
    this.onChange()
    const states = [...this.channels.values()].map((c) => c.state)
    this.onState(states.includes('failed') ? 'failed' : states.includes('loading') ? 'loading' : 'settled')
  }
}

/** Channel fetches from one source. */
class Channel {
  state: FeedState = 'loading'
  private request: AbortController | null = null
  private asked: { box: Box; step: number } | null = null // of the request that runs
  private have: { box: Box; step: number } | null = null // of markers
  private retry = 0
  private pause = firstRetry
  private following: AbortController | null = null
  private missed = false // what is shown changed while a request ran, which may not know of it

  constructor(
    readonly source: MarkerSource,
    private readonly camera: Camera,
    private readonly scene: Scene,
    private readonly changed: () => void,
  ) {}

  stop(): void {
    this.breakOff()
    this.following?.abort()
  }

  private breakOff(): void {
    this.request?.abort()
    clearTimeout(this.retry)
  }

  want(again: boolean): void {
    const { zooms } = this.source.looks.style
    if (zooms && (this.camera.zoom < zooms.from || this.camera.zoom > zooms.to)) {
      this.stop()
      this.request = this.asked = this.have = null
      this.scene.replace(this.source, [], [], [])
      this.state = 'settled'
      this.changed()
      return
    }
    const step = stepOf(this.camera.zoom)
    const view = this.camera.bounds()
    const serves = (x: { box: Box; step: number } | null) => x !== null && x.step === step && covers(x.box, view)
    const lacking = !serves(this.have)
    if (this.request && serves(this.asked)) {
      this.missed ||= again
      return
    }
    if (!again && !this.request && !lacking) return
    if (lacking && this.state === 'settled') {
      this.state = 'loading'
      this.changed()
    }
    void this.fetch(gridBox(this.camera, margin), step)
  }

  private async fetch(box: Box, step: number): Promise<void> {
    this.breakOff()
    const request = new AbortController()
    this.request = request
    this.asked = { box, step }
    this.missed = false
    try {
      const [markers, shapes, densities] = await Promise.all([
        this.source.load(box, step, request.signal),
        this.source.shapes?.(box, step, request.signal) ?? [],
        this.source.densities?.(box, step, request.signal) ?? [],
      ])
      if (request.signal.aborted) return
      this.scene.replace(this.source, markers, shapes, densities)
      this.have = { box, step }
      this.state = 'settled'
      this.pause = firstRetry
      const before = this.following
      this.following = new AbortController()
      this.source.follow?.(box, step, () => this.want(true), this.following.signal)
      before?.abort() // now, so that what goes on is followed without a gap
    } catch {
      if (request.signal.aborted) return
      this.state = 'failed'
      this.have = null // what is shown may be out of date: fetch even where it would serve
      this.retry = window.setTimeout(() => this.want(true), this.pause)
      this.pause = Math.min(2 * this.pause, longestRetry)
    }
    this.request = null
    this.asked = null
    this.changed()
    if (this.missed && this.state === 'settled') this.want(true)
  }
}
