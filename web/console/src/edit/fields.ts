/** What a property of an item is typed in as. */
export type Kind = 'text' | 'number' | 'truth' | 'json'

/** One property in a form. */
export interface Field {
  name: string
  kind: Kind
  text: string // as it is typed
  blank?: null // what it is if nothing is typed: there without a value; absent for not there
}

export const fieldOf = (name: string, value: unknown): Field => ({ name, ...typed(value) })

/** A field for values such as one, with nothing in it. */
export const blankLike = (name: string, value: unknown): Field => ({ name, kind: typed(value).kind, text: '' })

function typed(value: unknown): { kind: Kind; text: string; blank?: null } {
  if (value === null) return { kind: 'text', text: '', blank: null }
  switch (typeof value) {
    case 'string':
      return { kind: 'text', text: value }
    case 'number':
      return { kind: 'number', text: String(value) }
    case 'boolean':
      return { kind: 'truth', text: String(value) }
  }
  return { kind: 'json', text: JSON.stringify(value) }
}

/** What is wrong with what was typed, or null. */
export function wrongWith(f: Field): string | null {
  if (f.kind === 'number' && f.text.trim() !== '' && !Number.isFinite(Number(f.text.replace(',', '.'))))
    return 'This is not a number.'
  if (f.kind === 'json' && f.text.trim() !== '') {
    try {
      JSON.parse(f.text)
    } catch {
      return 'This is not JSON.'
    }
  }
  return null
}

/** The value that was typed; undefined for none. */
export function valueOf(f: Field): unknown {
  if (f.text.trim() === '') return f.blank
  switch (f.kind) {
    case 'text':
      return f.text
    case 'number':
      return Number(f.text.replace(',', '.'))
    case 'truth':
      return f.text === 'true'
    case 'json':
      return JSON.parse(f.text) as unknown
  }
}

/** Whether a JSON value has a null in an object, which a merge patch would take for a member to be taken out. */
export function hasNull(value: unknown): boolean {
  if (Array.isArray(value)) return false // is replaced as a whole
  return isObject(value) && Object.values(value).some((v) => v === null || hasNull(v))
}

const isObject = (value: unknown): value is Record<string, unknown> =>
  typeof value === 'object' && value !== null && !Array.isArray(value)

/** The merge patch (RFC 7396) that makes one value of another. Members of objects that are gone are null in it. */
export function patchOf(was: unknown, is: unknown): unknown {
  if (!isObject(was) || !isObject(is)) return is === undefined ? null : is
  const names = new Set([...Object.keys(was), ...Object.keys(is)])
  const changed = [...names].filter((name) => JSON.stringify(was[name]) !== JSON.stringify(is[name]))
  return Object.fromEntries(changed.map((name) => [name, patchOf(was[name], is[name])]))
}

/** How a value reads for people. */
export function told(value: unknown): string {
  if (value === undefined) return '—'
  return typeof value === 'string' ? value : JSON.stringify(value)
}

/** Degrees as they stand in a form: a centimetre is seen. */
export const written = (n: number) => String(Number(n.toFixed(7)))
