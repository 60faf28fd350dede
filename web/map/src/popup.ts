import type { Camera } from './camera'
import type { MapPoint } from './projection'

const gap = 6 // CSS pixels between what floats and what it belongs to
const edge = 8 // and between it and the edge of the map

/** Something that stands at a spot of the map, inside the view. */
class Floating {
  readonly element = document.createElement('div')
  private spot: MapPoint | null = null
  private lift = 0 // CSS pixels from the spot to the top of its marker

  constructor(name: string) {
    this.element.className = name
    this.element.part.add(name)
    this.element.hidden = true
  }

  get open(): boolean {
    return this.spot !== null
  }

  show(spot: MapPoint, lift: number): void {
    this.spot = spot
    this.lift = lift
    this.element.hidden = false
  }

  /** What it belongs to has moved. */
  move(spot: MapPoint, lift: number): void {
    if (this.spot) this.show(spot, lift)
  }

  hide(): void {
    this.spot = null
    this.element.hidden = true
  }

  /** Puts it above its spot, or below if there is no room, and keeps it inside the view. */
  position(camera: Camera): void {
    if (!this.spot) return
    const at = camera.toScreen(this.spot)
    const { offsetWidth: width, offsetHeight: height } = this.element
    const clamp = (v: number, most: number) => Math.max(edge, Math.min(most - edge, v))
    const above = at.y - this.lift - gap - height
    const top = clamp(above >= edge ? above : at.y + gap, camera.height - height)
    const left = clamp(at.x - width / 2, camera.width - width)
    this.element.style.transform = `translate(${Math.round(left)}px, ${Math.round(top)}px)`
  }
}

/** Popup holds one piece of content at a spot of the map. */
export class Popup extends Floating {
  constructor() {
    super('popup')
    this.element.setAttribute('role', 'dialog')
    this.element.tabIndex = -1
    this.element.innerHTML = '<slot name="popup"></slot>'
  }

  override position(camera: Camera): void {
    this.element.style.maxHeight = `${Math.min(camera.height - 2 * edge, Math.max(240, camera.height * 0.6))}px`
    this.element.style.maxWidth = `${Math.min(340, camera.width - 2 * edge)}px`
    super.position(camera)
  }
}

/** Tip is a word about what is pointed at. It says nothing that its button does not say to a screen reader. */
export class Tip extends Floating {
  private readonly name = document.createElement('div')
  private readonly more = document.createElement('div')

  constructor() {
    super('tip')
    this.element.setAttribute('aria-hidden', 'true')
    this.name.className = 'name'
    this.more.className = 'more'
    for (const part of [this.name, this.more]) part.dir = 'auto'
    this.element.append(this.name, this.more)
  }

  /** Says what something is and, on lines of its own, what else there is to tell. */
  tell(name: string, more: string): void {
    this.name.textContent = name
    this.more.textContent = more
  }
}
