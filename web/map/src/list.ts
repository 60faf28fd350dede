import type { Placed } from './placed'
import type { Words } from './words'

/**
 * MarkerList describes the markers in view to those who do not see the map, and lets the keyboard reach them: a list of
 * buttons that is not seen itself. The map draws a frame around the marker whose button has the focus. Tab goes to one
 * of them, the arrow keys from one to the next.
 */
export class MarkerList {
  readonly element = document.createElement('ul')
  private shown: Placed[] = []
  private items = new Map<string, Item>() // by the key of the marker, in the order of shown
  private current = '' // the key of the marker that Tab goes to
  private tabbed: HTMLElement | null = null // its button
  private chosen = '' // the key of the marker that had the focus last; until one had it, Tab goes to the first

  constructor(
    private readonly onPick: (p: Placed) => void,
    private readonly onFocus: () => void,
  ) {
    this.element.addEventListener('click', (e) => {
      const placed = this.of(e.target)
      if (placed) this.onPick(placed)
    })
    this.element.addEventListener('focusin', (e) => {
      const placed = this.of(e.target)
      if (placed) this.setCurrent((this.chosen = placed.key))
      this.onFocus()
    })
    this.element.addEventListener('focusout', () => this.onFocus())
    this.element.addEventListener('keydown', (e) => this.key(e))
  }

  /** The button that has the focus. */
  get focused(): HTMLElement | null {
    const active = (this.element.getRootNode() as ShadowRoot).activeElement
    return active instanceof HTMLElement && this.element.contains(active) ? active : null
  }

  /** The key of the marker whose button has the focus. */
  get focusedKey(): string | null {
    return this.focused?.dataset.key ?? null
  }

  show(markers: readonly Placed[], words: Words): void {
    this.element.setAttribute('aria-label', words.markers)
    this.shown = [...markers].sort(inOrder)
    const hadFocus = this.focusedKey
    const old = this.items
    this.items = new Map()
    for (const p of this.shown) {
      const item = old.get(p.key) ?? new Item(p.key)
      old.delete(p.key)
      this.items.set(p.key, item)
      item.tell(p, words)
    }
    // What stays where it was is left alone: no screen reader is told anew, and the browser need not lay it out.
    for (const { li } of old.values()) li.remove()
    let next = this.element.firstElementChild
    for (const { li } of this.items.values()) {
      if (li === next) next = li.nextElementSibling
      else this.element.insertBefore(li, next)
    }
    this.setCurrent(this.items.has(this.chosen) ? this.chosen : (this.shown[0]?.key ?? ''))
    if (hadFocus && !this.focused) this.button(hadFocus)?.focus({ preventScroll: true })
  }

  private of(target: EventTarget | null): Placed | undefined {
    const key = target instanceof HTMLElement ? target.dataset.key : undefined
    return this.shown.find((p) => p.key === key)
  }

  private button(key: string): HTMLElement | null {
    return this.items.get(key)?.button ?? null
  }

  private setCurrent(key: string): void {
    this.current = key
    const next = this.button(key)
    if (next === this.tabbed) return
    if (this.tabbed) this.tabbed.tabIndex = -1
    if (next) next.tabIndex = 0
    this.tabbed = next
  }

  private key(e: KeyboardEvent): void {
    const at = this.shown.findIndex((p) => p.key === this.current)
    const moves: Record<string, number> = {
      ArrowRight: at + 1,
      ArrowDown: at + 1,
      ArrowLeft: at - 1,
      ArrowUp: at - 1,
      Home: 0,
      End: this.shown.length - 1,
    }
    const to = moves[e.key]
    if (to === undefined) return
    e.preventDefault()
    const next = this.shown[Math.max(0, Math.min(this.shown.length - 1, to))]
    if (next) this.button(next.key)?.focus({ preventScroll: true })
  }
}

/**
 * From west to east. What moves keeps its place in the list, and comes after what does not; shapes come last.
 */
function inOrder(a: Placed, b: Placed): number {
  const ranks = { place: 0, cluster: 0, device: 1, shape: 2 }
  const moves = a.marker.kind === 'device' ? (a.key < b.key ? -1 : Number(a.key > b.key)) : 0
  return ranks[a.marker.kind] - ranks[b.marker.kind] || moves || a.x - b.x || a.y - b.y
}

/** An Item is a marker in the list. */
class Item {
  readonly li = document.createElement('li')
  readonly button = this.li.appendChild(document.createElement('button'))
  private told: { placed: Placed; words: Words } | null = null

  constructor(key: string) {
    this.button.type = 'button'
    this.button.tabIndex = -1
    this.button.dataset.key = key
  }

  /** Says what a marker is, and changes nothing that says it already: thousands may be told ten times a second. */
  tell(placed: Placed, words: Words): void {
    if (this.told?.placed === placed && this.told.words === words) return
    const { marker } = placed
    const before = this.told?.placed.marker
    const { dataset } = this.button
    if (before?.kind !== marker.kind) dataset.kind = marker.kind
    if (before?.count !== marker.count) dataset.count = String(marker.count)
    if (before?.at.lat !== marker.at.lat) dataset.lat = String(marker.at.lat)
    if (before?.at.lon !== marker.at.lon) dataset.lon = String(marker.at.lon)
    const label = words.marker(marker)
    if (this.button.textContent !== label) this.button.textContent = label
    const tip = (marker.drawing.tip ?? '').replaceAll('\n', ', ')
    if (tip) this.button.setAttribute('aria-description', tip)
    else this.button.removeAttribute('aria-description')
    this.told = { placed, words }
  }
}
