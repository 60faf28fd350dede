/** A rectangle on the screen in CSS pixels. */
export interface ScreenBox {
  left: number
  top: number
  width: number
  height: number
}

const cell = 64 // CSS pixels

/** BoxGrid finds rectangles on the screen at a spot, or that run into another, without looking at all of them. */
export class BoxGrid {
  private readonly cells = new Map<number, number[]>() // indexes into boxes
  private readonly boxes: { box: ScreenBox; id: number }[] = []

  /** Adds a box with a number that says whose it is. Later ones lie on top of earlier ones. */
  add(box: ScreenBox, id: number): void {
    const index = this.boxes.push({ box, id }) - 1
    this.eachCell(box, (key) => {
      const there = this.cells.get(key)
      if (there) there.push(index)
      else this.cells.set(key, [index])
      return false
    })
  }

  /** The number of the topmost box that has a spot within slop CSS pixels, or -1. */
  topmost(x: number, y: number, slop: number): number {
    let top = -1
    this.eachCell({ left: x - slop, top: y - slop, width: 2 * slop, height: 2 * slop }, (key) => {
      for (const index of this.cells.get(key) ?? []) {
        const b = this.boxes[index]?.box
        if (!b || index <= top) continue
        const inside =
          x >= b.left - slop && x <= b.left + b.width + slop && y >= b.top - slop && y <= b.top + b.height + slop
        if (inside) top = index
      }
      return false
    })
    return this.boxes[top]?.id ?? -1
  }

  /** Whether a box runs into one that is there. */
  taken(box: ScreenBox): boolean {
    return this.eachCell(box, (key) =>
      (this.cells.get(key) ?? []).some((index) => {
        const b = this.boxes[index]?.box
        return b !== undefined && overlap(b, box)
      }),
    )
  }

  /** Calls look with the cells that a box touches until it returns true. */
  private eachCell(box: ScreenBox, look: (key: number) => boolean): boolean {
    const east = Math.floor((box.left + box.width) / cell)
    const south = Math.floor((box.top + box.height) / cell)
    for (let row = Math.floor(box.top / cell); row <= south; row++) {
      for (let column = Math.floor(box.left / cell); column <= east; column++) {
        if (look(row * 100_003 + column)) return true
      }
    }
    return false
  }
}

function overlap(a: ScreenBox, b: ScreenBox): boolean {
  return a.left < b.left + b.width && b.left < a.left + a.width && a.top < b.top + b.height && b.top < a.top + a.height
}
