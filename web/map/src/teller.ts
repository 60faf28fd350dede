import type { View } from './camera'

const sayAfter = 700 // ms after a move, so that a hand that goes on is not talked over

/** Teller tells a screen reader what is in view, once the view has come to rest and what it shows is there. */
export class Teller {
  readonly element = document.createElement('div')
  private told = '' // the view that was told last
  private telling = 0

  constructor() {
    this.element.className = 'said'
    this.element.setAttribute('role', 'status')
  }

  /** Tells of a view in a while, unless it is the one that was told last. */
  tell({ centre, zoom }: View, words: () => string): void {
    clearTimeout(this.telling)
    this.telling = window.setTimeout(() => {
      const view = [centre.lon, centre.lat, zoom].join()
      if (this.told === view) return
      const first = this.told === ''
      this.told = view
      if (!first) this.element.textContent = words() // what a page begins with is its own to tell
    }, sayAfter)
  }

  stop(): void {
    clearTimeout(this.telling)
  }
}
