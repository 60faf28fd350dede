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
