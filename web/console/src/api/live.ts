import { ServiceError } from './explain'
import { type Schemas, unknownUser } from './service'

/** An answer that somebody follows. */
interface Followed {
  name: string // what the service calls it by
  changed: Set<() => void>
  pushed?: { status: number; answer: unknown } | undefined // what has come of it
  squares?: Map<string, Square> | undefined // of which the answer is put together
}

/** The markers in a square of the map. */
interface Square {
  features: { id: unknown; geometry: unknown }[]
}

const firstPause = 1000 // ms before another stream is opened
const longestPause = 15_000
const restAfter = 30_000 // ms after which a page that nobody sees listens no more
const keptTags = 64

const followed = new Map<string, Followed>() // by path
const tags = new Map<string, string>() // of answers that came last, by path
let names = 0
let stream: EventSource | null = null
let listener = '' // the service's name of this page; '' while it does not listen
let pause = firstPause
let waiting = 0
let telling = 0
let resting = 0

/** Whether what is followed is up to date without being asked for. */
export const isLive = () => listener !== ''

/** Returns the answer of a path: what the service has sent of it, or else what it answers. */
export async function answerAt<T>(path: string, signal: AbortSignal | null): Promise<T> {
  const pushed = followed.get(path)?.pushed
  if (pushed) return taken<T>(pushed.status, structuredClone(pushed.answer)) // whoever asks may keep it
  const response = await fetch(path, { signal })
  if (response.status === 401) window.dispatchEvent(new Event(unknownUser))
  const body: unknown = await response.json().catch(() => null)
  if (response.ok) remember(path, response.headers.get('ETag') ?? '')
  return taken<T>(response.status, body)
}

function taken<T>(status: number, body: unknown): T {
  if (status >= 300) throw ServiceError.of(status, body)
  return body as T
}

function remember(path: string, tag: string): void {
  tags.delete(path)
  tags.set(path, tag)
  for (const oldest of tags.keys()) if (tags.size > keptTags) tags.delete(oldest)
}

/** Calls changed whenever the answer of a path is another, until the signal. */
export function follow(path: string, changed: () => void, signal: AbortSignal): void {
  const f = followed.get(path) ?? { name: `v${++names}`, changed: new Set() }
  followed.set(path, f)
  f.changed.add(changed)
  signal.addEventListener('abort', () => {
    f.changed.delete(changed)
    if (f.changed.size === 0 && followed.get(path) === f) followed.delete(path)
    tell()
  })
  if (stream) tell()
  else if (!waiting) open()
}

type Noticed = Schemas['Notice']
const noticing = new Set<(some: Noticed[]) => void>()

/** Calls told with what watches notice, as it happens, until the signal; with nothing when some may be missing. */
export function onNotices(told: (some: Noticed[]) => void, signal: AbortSignal): void {
  noticing.add(told)
  signal.addEventListener('abort', () => noticing.delete(told))
  if (!stream && !waiting) open()
}

function open(): void {
  clearTimeout(waiting)
  waiting = 0
  const mine = (stream = new EventSource('/api/live?notices=true'))
  mine.addEventListener('notices', (e: MessageEvent<string>) => {
    const { notices } = JSON.parse(e.data) as Schemas['Notices']
    for (const told of noticing) told(notices)
  })
  mine.addEventListener('hello', (e: MessageEvent<string>) => {
    listener = (JSON.parse(e.data) as { listener: string }).listener
    pause = firstPause
    tell()
    for (const told of noticing) told([])
  })
  mine.addEventListener('view', (e: MessageEvent<string>) => {
    const v = JSON.parse(e.data) as { name: string; status: number; etag: string; answer: unknown }
    for (const [path, f] of followed) {
      if (f.name !== v.name) continue
      f.pushed = v
      f.squares = undefined
      remember(path, v.etag)
      for (const changed of f.changed) changed()
    }
  })
  mine.addEventListener('squares', (e: MessageEvent<string>) => {
    const v = JSON.parse(e.data) as { name: string; whole: boolean; squares: Record<string, Square>; gone?: string[] }
    for (const f of followed.values()) {
      if (f.name !== v.name) continue
      if (v.whole || !f.squares) f.squares = new Map()
      for (const [name, square] of Object.entries(v.squares)) f.squares.set(name, square)
      for (const name of v.gone ?? []) f.squares.delete(name)
      // A marker may be in several squares.
      const all = [...f.squares.values()].flatMap((s) => s.features)
      const once = new Map(all.map((m) => [JSON.stringify([m.id, m.geometry]), m]))
      f.pushed = { status: 200, answer: { features: [...once.values()] } }
      for (const changed of f.changed) changed()
    }
  })
  mine.addEventListener('error', () => {
    if (stream === mine) again()
  })
}

const wanted = () => followed.size > 0 || noticing.size > 0

function close(): void {
  stream?.close()
  stream = null
  listener = ''
  // What comes meanwhile is asked for.
  for (const f of followed.values()) f.pushed = f.squares = undefined
}

/** Opens another stream after a while, which grows. */
function again(): void {
  close()
  clearTimeout(waiting)
  waiting = window.setTimeout(open, pause * (0.5 + Math.random()))
  pause = Math.min(2 * pause, longestPause)
}

/** Tells the service what is followed, once for all that has just changed. */
function tell(): void {
  clearTimeout(telling)
  telling = window.setTimeout(() => {
    if (!listener) return
    // What was opened last is told of first: a popup hears that its place is gone before the map closes it.
    const views = [...followed]
      .reverse()
      .map(([path, { name }]) =>
        /^\/api\/(devices\/)?markers\?/.test(path)
          ? { name, path, squares: true }
          : { name, path, etag: tags.get(path) ?? '' },
      )
    const headers = { 'Content-Type': 'application/json' }
    void fetch(`/api/live/${listener}`, { method: 'PUT', headers, body: JSON.stringify({ views }) })
      .then((r) => {
        if (r.status === 404) again() // another process has answered, or the service has begun anew
      })
      .catch(() => undefined) // the stream ends, too
  }, 20)
}

// A browser has few connections to one service, and may keep a page that was left.
window.addEventListener('pagehide', close)
window.addEventListener('pageshow', (e) => {
  if (e.persisted && wanted()) open()
})
document.addEventListener('visibilitychange', () => {
  clearTimeout(resting)
  if (document.hidden) resting = window.setTimeout(close, restAfter)
  else if (!stream && !waiting && wanted()) open()
})
