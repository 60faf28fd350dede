import { inBox } from './camera'
import { type Box, type MapPoint, type Position, project, unproject } from './projection'

/** Cells of the map to shade, by how many places they have or what the numbers of these come to. */
export interface Density {
  layer?: string // which of its source's layers it is of
  says: string // what the number of a cell is called
  level: number // the cells are squares of the map of the world, which has 2 ** level of them in a row
  colours: readonly string[] // of the classes, #rrggbb, the lightest first
  breaks: readonly number[] // between the classes, ascending
  range: readonly [low: number, high: number] // the numbers of the lightest and of the darkest shade
  cells: readonly DensityCell[]
}

/** A cell: its column from the west and its row from the north, its class, its number, and how many places it has. */
export type DensityCell = readonly [column: number, row: number, class_: number, number: number, count: number]

/** The cell at a position, of the density that is drawn last, as what is told of it stands at the middle of its top. */
export function cellAt(
  p: Position,
  densities: readonly Density[],
): { said: DensityCell; says: string; top: MapPoint } | null {
  const at = project(p)
  for (const { level, cells, says } of [...densities].reverse()) {
    const columns = 2 ** level
    const column = Math.floor(at.x * columns)
    const row = Math.floor(at.y * columns)
    const said = cells.find(([x, y]) => x === column && y === row)
    if (said) return { said, says, top: { x: (column + 0.5) / columns, y: row / columns } }
  }
  return null
}

/** How many places the cells whose middles lie in a box have. */
export function placesIn(box: Box, densities: readonly Density[]): number {
  let places = 0
  for (const { level, cells } of densities)
    for (const [column, row, , , count] of cells) {
      const middle = unproject({ x: (column + 0.5) / 2 ** level, y: (row + 0.5) / 2 ** level })
      if (inBox(box, middle)) places += count
    }
  return places
}
