/**
 * A motion moves something on to a time in ms, and returns whether it goes on; 'unseen' if it does, and has moved too
 * little to be drawn.
 */
export type Motion = (now: number) => boolean | 'unseen'

/**
 * FrameLoop is the one place from which the map draws. All motions move on first, then all is drawn once, however many
 * have asked for it.
 */
export class FrameLoop {
  private request = 0
  private alive = false
  private wanted = false // a drawing, whatever the motions do
  private readonly motions = new Set<Motion>()

  constructor(private readonly draw: () => void) {}

  start(): void {
    this.alive = true
    this.ask()
  }

  /** Ends all motions. Nothing is drawn until the next start. */
  stop(): void {
    this.alive = false
    this.motions.clear()
    cancelAnimationFrame(this.request)
    this.request = 0
  }

  /** Asks for a drawing in the next frame. */
  ask(): void {
    this.wanted = true
    this.goOn()
  }

  private goOn(): void {
    if (this.request || !this.alive) return
    this.request = requestAnimationFrame((now) => {
      this.request = 0
      let seen = this.wanted
      this.wanted = false
      for (const motion of [...this.motions]) {
        if (!this.motions.has(motion)) continue
        const moved = motion(now)
        if (!moved) this.motions.delete(motion)
        seen ||= moved !== 'unseen'
      }
      if (seen) this.draw()
      if (this.motions.size > 0) this.goOn()
    })
  }

  run(motion: Motion): void {
    this.motions.add(motion)
    this.ask()
  }

  end(motion: Motion): void {
    this.motions.delete(motion)
  }
}
