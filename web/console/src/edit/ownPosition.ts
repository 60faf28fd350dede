import type { Position } from '@idlebeacon/map'

/** Where the device is, and within how many metres. */
export interface Fix {
  at: Position
  accuracy: number
}

const patience = 20_000 // ms

/** Why the browser cannot tell where the device is, whatever the user says; '' if it can. */
export function whyNever(): string {
  if (!window.isSecureContext)
    return 'Browsers tell where a device is only to pages with HTTPS, or of the same machine.'
  return 'geolocation' in navigator ? '' : 'This browser cannot tell where the device is.'
}

/** Asks the device where it is. Its error says in words why that is not known. */
export function ownPosition(): Promise<Fix> {
  const never = whyNever()
  if (never) return Promise.reject(new Error(never))
  const { geolocation } = navigator
  return new Promise((resolve, reject) => {
    geolocation.getCurrentPosition(
      ({ coords }) => resolve({ at: { lat: coords.latitude, lon: coords.longitude }, accuracy: coords.accuracy }),
      ({ code }) => reject(new Error(reasons[code] ?? 'It is not known where the device is.')),
      { enableHighAccuracy: true, timeout: patience, maximumAge: 0 },
    )
  })
}

// By the codes of the W3C Geolocation API.
export const reasons: Record<number, string> = {
  1: 'You have not let this page know where the device is. The browser’s settings for this page can change that.',
  2: 'The device does not know where it is. Outdoors, or with its location services on, it may.',
  3: 'The device has not found out in time where it is. Try again, with a free view of the sky.',
}
