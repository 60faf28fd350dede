import type { Position } from '@idlebeacon/map'

/** What a text says of a position: one, either of two, or null if it is none. */
export type Reading = { at: Position } | { either: readonly [Position, Position] } | null

interface Angle {
  degrees: number
  hemisphere: '' | 'N' | 'S' | 'E' | 'W'
}

const number = String.raw`\d+(?:[.,]\d+)?`
const angle = new RegExp(
  String.raw`^([NSEW])?\s*([+-])?\s*(${number})\s*(?:°|º|d|deg)?\s*` +
    String.raw`(?:(${number})\s*['′m]\s*)?(?:(${number})\s*(?:"|″|''|s)\s*)?([NSEW])?$`,
  'i',
)

/** Reads degrees: decimal, or with minutes and seconds, with a sign or a letter for the hemisphere. */
function readAngle(text: string): Angle | null {
  const found = angle.exec(text.trim())
  if (!found) return null
  const [, before, sign, d, m, s, after] = found
  if (before && after) return null
  const value = (t: string | undefined) => (t ? Number(t.replace(',', '.')) : 0)
  if (value(m) >= 60 || value(s) >= 60) return null
  const letter = (before ?? after ?? '').toUpperCase() as Angle['hemisphere']
  const size = value(d) + value(m) / 60 + value(s) / 3600
  const negative = (sign === '-') !== (letter === 'S' || letter === 'W')
  return { degrees: negative ? -size : size, hemisphere: letter }
}

/** Degrees that are typed by themselves, or null. */
export function readDegrees(text: string): number | null {
  return readAngle(plain(text))?.degrees ?? null
}

/** A text with the usual signs instead of those of typesetters. */
function plain(text: string): string {
  const dashed = text.replace(/[−–—]/g, '-')
  return dashed.replace(/[’`´]/g, "'").replace(/[“”]/g, '"').trim()
}

const inRange = (p: Position) => Math.abs(p.lat) <= 90 && Math.abs(p.lon) <= 180

/** Reads a position as people write and copy it: two numbers in either order, degrees with letters, or a standard's. */
export function readPosition(text: string): Reading {
  const said = plain(text)
  const [, lonFirst] = /^(?:POINT\s*Z?\s*\(|\{.*"coordinates"\s*:\s*\[)\s*([^)\]]+)/is.exec(said) ?? []
  if (lonFirst) {
    // Well-Known Text, or GeoJSON
    const [lon, lat] = lonFirst.split(/[\s,]+/).map(Number)
    return sure({ lat: lat ?? NaN, lon: lon ?? NaN })
  }
  const uri = /^geo:([^,;]+),([^,;]+)/i.exec(said) // RFC 5870
  if (uri) return sure({ lat: Number(uri[1]), lon: Number(uri[2]) })
  const named = /lat\w*\W+?([-+]?[\d.]+)\D+?lon?g?\w*\W+?([-+]?[\d.]+)/i.exec(said)
  if (named) return sure({ lat: Number(named[1]), lon: Number(named[2]) })
  const swapped = /lon?g?\w*\W+?([-+]?[\d.]+)\D+?lat\w*\W+?([-+]?[\d.]+)/i.exec(said)
  if (swapped) return sure({ lat: Number(swapped[2]), lon: Number(swapped[1]) })
  for (const [a, b] of splits(said.replace(/^[([]|[)\]]$/g, ''))) {
    const [first, second] = [readAngle(a), readAngle(b)]
    if (first && second) return together(first, second)
  }
  return null
}

const sure = (at: Position): Reading => (inRange(at) ? { at } : null)

/** The ways in which a text may be two: what separates them is the strongest separator that is there. */
function splits(text: string): [string, string][] {
  const out: [string, string][] = []
  for (const separator of [
    /;/,
    /,\s+/,
    /\s*[/|]\s*/,
    /,/,
    /\s+(?=[-+]?\d+[.,]?\d*\s*(?:°|º|deg)?\s*[NSEW]?$)/i,
    /(?<=[NSEW])\s*/i,
    /\s+(?=[NSEW])/i,
    /\s+/,
  ]) {
    const parts = text.split(separator).filter((p) => p.trim() !== '')
    const [a, b] = parts
    if (parts.length === 2 && a !== undefined && b !== undefined) out.push([a, b])
  }
  return out
}

const isLat = (a: Angle) => a.hemisphere === 'N' || a.hemisphere === 'S'
const isLon = (a: Angle) => a.hemisphere === 'E' || a.hemisphere === 'W'

function together(first: Angle, second: Angle): Reading {
  const [a, b] = [first.degrees, second.degrees]
  if (isLat(first) || isLon(second)) return isLon(first) || isLat(second) ? null : sure({ lat: a, lon: b })
  if (isLon(first) || isLat(second)) return sure({ lat: b, lon: a })
  const either = [
    { lat: a, lon: b },
    { lat: b, lon: a },
  ].filter(inRange)
  const [one, other] = either
  if (one && other && a !== b) return { either: [one, other] }
  return one ? { at: one } : null
}

/** Of two positions the only one that lies in a box of west, south, east and north, or null. */
export function within(either: readonly [Position, Position], bbox: readonly number[] | undefined): Position | null {
  const [west, south, east, north] = bbox ?? []
  if (west === undefined || south === undefined || east === undefined || north === undefined) return null
  const margin = Math.max(0.5, (north - south) / 2) // degrees
  const inside = either.filter(
    (p) =>
      p.lat >= south - margin &&
      p.lat <= north + margin &&
      (west <= east
        ? p.lon >= west - margin && p.lon <= east + margin
        : p.lon >= west - margin || p.lon <= east + margin),
  )
  return inside.length === 1 ? (inside[0] ?? null) : null
}
