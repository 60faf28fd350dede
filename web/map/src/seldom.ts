/**
 * Seldom does something when it is asked to, but so seldom that it takes no more than a twentieth of the time: at once
 * if it may, and later for all that have asked meanwhile.
 */
export class Seldom {
  private timer = 0
  private free = 0 // when it may be done next, in ms

  constructor(private readonly run: () => void) {}

  ask(): void {
    if (this.timer) return
    const wait = this.free - performance.now()
    if (wait <= 0) this.now()
    else this.timer = window.setTimeout(() => this.now(), wait)
  }

  /** Does it at once, whatever it takes. */
  now(): void {
    this.stop()
    const began = performance.now()
    this.run()
    const ended = performance.now()
    this.free = ended + 19 * (ended - began)
  }

  /** Forgets who has asked. */
  stop(): void {
    window.clearTimeout(this.timer)
    this.timer = 0
  }
}
