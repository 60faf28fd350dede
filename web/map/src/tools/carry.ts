import type { ScreenPoint } from '../camera'
import type { Placed } from '../placed'
import type { Press, Tool } from './tool'
import { near } from './travel'

/** What a Carrier asks of its owner, and reports to it. */
export interface Carries {
  /** What lies at a spot and may be carried, and where on the screen it stands. */
  at(at: ScreenPoint): { placed: Placed; stands: ScreenPoint } | null
  /** It has been carried to a spot, and is still held or was let go there. */
  carried(placed: Placed, to: ScreenPoint, held: boolean): void
}

/** Carrier moves a marker that is dragged. */
export class Carrier implements Tool {
  private held: { placed: Placed; from: ScreenPoint; grip: ScreenPoint; to: ScreenPoint; moved: boolean } | null = null

  constructor(private readonly carries: Carries) {}

  press(p: Press): boolean {
    const found = p.pressed === 1 ? this.carries.at(p.at) : null
    if (!found) return false
    const { placed, stands } = found
    this.held = { placed, from: p.at, grip: { x: p.at.x - stands.x, y: p.at.y - stands.y }, to: stands, moved: false }
    return true
  }

  move(p: Press): boolean {
    const { held } = this
    if (!held) return false
    held.moved ||= !near(held.from, p.at)
    if (!held.moved) return true
    held.to = { x: p.at.x - held.grip.x, y: p.at.y - held.grip.y }
    this.carries.carried(held.placed, held.to, true)
    return true
  }

  lift(): void {
    const { held } = this
    this.held = null
    if (held?.moved) this.carries.carried(held.placed, held.to, false)
  }

  cancel(): void {
    this.held = null
  }
}
