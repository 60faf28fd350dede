import type { ScreenPoint } from '../camera'
import type { Press, Tool } from './tool'
import { near } from './travel'

/** What a Pointer reports to its owner. */
export interface Points {
  /** A spot was clicked or tapped. */
  picked(at: ScreenPoint): void
  /** A spot was clicked twice. */
  doubled(at: ScreenPoint): void
  /** The pointer is over a spot, or has left. */
  hovered(at: ScreenPoint | null): void
}

/** Pointer reports what is pointed at and what is picked: a press that is lifted where it began. */
export class Pointer implements Tool {
  private began: Press | null = null // that may yet be a click

  constructor(private readonly points: Points) {}

  press(p: Press): boolean {
    this.began = p.pressed === 1 ? p : null
    return false
  }

  move(p: Press): boolean {
    if (this.began && !near(this.began.at, p.at)) this.began = null
    return false
  }

  lift(p: Press): void {
    const { began } = this
    this.began = null
    if (began && p.pressed === 0) this.points.picked(began.at)
  }

  cancel(): void {
    this.began = null
  }

  hover(at: ScreenPoint | null): void {
    this.points.hovered(at)
  }

  double(at: ScreenPoint): boolean {
    this.points.doubled(at)
    return true
  }
}
