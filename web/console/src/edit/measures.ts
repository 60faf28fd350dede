const format = (n: number, digits: number) => n.toLocaleString('en', { maximumFractionDigits: digits })

/** A length in metres, for people. */
export const measured = (metres: number) =>
  metres < 1000 ? `${format(metres, 1)} m` : `${format(metres / 1000, 2)} km`

/** An area in square metres, for people. */
export function measuredArea(metres: number): string {
  if (metres < 10_000) return `${format(metres, 0)} m²`
  return metres < 1e6 ? `${format(metres / 10_000, 2)} ha` : `${format(metres / 1e6, 2)} km²`
}
