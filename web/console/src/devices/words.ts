import { counted } from '../text/format'

/** How long ago something was, in words; ms. */
export function agoText(ms: number): string {
  const s = Math.max(0, Math.round(ms / 1000))
  if (s < 2) return 'now'
  if (s < 100) return `${s} s ago`
  const minutes = Math.round(s / 60)
  if (minutes < 100) return counted(minutes, 'minute ago', 'minutes ago')
  const hours = Math.round(s / 3600)
  return hours < 48 ? counted(hours, 'hour ago', 'hours ago') : counted(Math.round(s / 86_400), 'day ago', 'days ago')
}

/** A length of time in words; seconds. */
export function spanText(seconds: number): string {
  const s = Math.round(seconds)
  if (s < 60) return `${s} s`
  if (s < 3600) return `${Math.floor(s / 60)} min`
  return `${Math.floor(s / 3600)} h ${Math.floor((s % 3600) / 60)} min`
}

export const speedText = (metresPerSecond: number | undefined): string =>
  metresPerSecond === undefined ? '' : `${metresPerSecond.toFixed(1)} m/s`

export const lengthText = (metres: number): string =>
  metres < 1000 ? `${Math.round(metres)} m` : `${(metres / 1000).toFixed(metres < 10_000 ? 2 : 1)} km`

const points = ['north', 'north-east', 'east', 'south-east', 'south', 'south-west', 'west', 'north-west']

/** A heading in degrees and in words. */
export function headingText(degrees: number | undefined): string {
  if (degrees === undefined) return ''
  return `${Math.round(degrees)}°, ${points[Math.round(degrees / 45) % 8] ?? ''}`
}

/** What is told of a state. */
export const stateText: Record<string, string> = {
  moving: 'Moving',
  still: 'Still',
  silent: 'Silent',
  unheard: 'Not heard of yet',
  paused: 'Not sharing',
}

/** The charge of the battery that properties tell, in percent. */
export function batteryOf(properties: Record<string, unknown> | undefined): number | null {
  const charge = properties?.battery
  return typeof charge === 'number' && charge >= 0 && charge <= 100 ? Math.round(charge) : null
}
