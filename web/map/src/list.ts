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
    const old = new Map(
      [...this.element.children].map((li) => [(li.firstElementChild as HTMLElement).dataset.key ?? '', li]),
    )
    const hadFocus = this.focusedKey
    const items = this.shown.map((p) => {
      const key = p.key
      const li = old.get(key) ?? document.createElement('li')
      const button = (li.firstElementChild as HTMLButtonElement | null) ?? li.appendChild(newButton())
      button.dataset.key = key
      button.dataset.kind = p.marker.kind
      button.dataset.count = String(p.marker.count)
      button.dataset.lat = String(p.marker.at.lat)
      button.dataset.lon = String(p.marker.at.lon)
      const label = words.marker(p.marker)
      if (button.textContent !== label) button.textContent = label
      const tip = (p.marker.drawing.tip ?? '').replaceAll('\n', ', ')
      if (tip) button.setAttribute('aria-description', tip)
      else button.removeAttribute('aria-description')
      return li
    })
    // An unchanged list is left alone, so that a screen reader is not told it anew.
    if (items.length !== this.element.children.length || items.some((li, i) => this.element.children[i] !== li))
      this.element.replaceChildren(...items)
    const known = this.shown.some((p) => p.key === this.chosen)
    this.setCurrent(known ? this.chosen : this.shown[0] ? this.shown[0].key : '')
    if (hadFocus && !this.focused) this.button(hadFocus)?.focus({ preventScroll: true })
  }

  private of(target: EventTarget | null): Placed | undefined {
    const key = target instanceof HTMLElement ? target.dataset.key : undefined
    return this.shown.find((p) => p.key === key)
  }

  private button(key: string): HTMLElement | null {
    return this.element.querySelector<HTMLElement>(`[data-key="${CSS.escape(key)}"]`)
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

function newButton(): HTMLButtonElement {
  const button = document.createElement('button')
  button.type = 'button'
  button.tabIndex = -1
  return button
}
