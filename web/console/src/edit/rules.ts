import type { JsonSchema } from '../api/schemas'
import type { Field, Kind } from './fields'

/** What a property has to be, as far as a form can tell. */
export interface Rule {
  title: string // what people call it
  help: string
  kind: Kind | null // what it is typed in as; null for anything
  required: boolean
  whole: boolean // a number without decimals
  choices: readonly unknown[] // none for anything
  least: number | null
  most: number | null
  shortest: number
  longest: number | null // characters
  pattern: string
  moment: 'date' | 'date-time' | null // a text that is one
  unit: string
  first: unknown // what a new item has
}

/** The properties that a schema describes, in the order in which people know them. */
export function rulesOf(schema: JsonSchema): Map<string, Rule> {
  const required = new Set(schema.required ?? [])
  const all = Object.entries(schema.properties ?? {}).filter(([, s]) => !s['x-ogc-role'])
  const place = (s: JsonSchema) => s['x-ogc-propertySeq'] ?? Infinity
  const sorted = all.map(([name, s], i) => ({ name, s: resolved(s, schema), i }))
  sorted.sort((a, b) => place(a.s) - place(b.s) || a.i - b.i)
  return new Map(sorted.map(({ name, s }) => [name, ruleOf(name, s, required.has(name))]))
}

/** A part of a schema, or the part of it that it refers to. */
function resolved(s: JsonSchema, whole: JsonSchema): JsonSchema {
  const name = s.$ref?.startsWith('#/$defs/') ? s.$ref.slice('#/$defs/'.length) : null
  return name === null ? s : { ...whole.$defs?.[name], ...s }
}

function ruleOf(name: string, s: JsonSchema, required: boolean): Rule {
  const types = [s.type ?? []].flat().filter((t) => t !== 'null')
  const only = types.length === 1 ? types[0] : undefined
  const choices = s.const !== undefined ? [s.const] : (s.enum ?? []).filter((c) => c !== null)
  const kinds: Record<string, Kind> = {
    string: 'text',
    number: 'number',
    integer: 'number',
    boolean: 'truth',
    array: 'json',
    object: 'json',
  }
  let kind = only ? (kinds[only] ?? null) : null
  if (!kind && choices.length > 0 && choices.every((c) => typeof c === typeof choices[0]))
    kind = { string: 'text', number: 'number', boolean: 'truth' }[typeof choices[0] as string] as Kind
  return {
    title: s.title ?? name,
    help: s.description ?? '',
    kind,
    required,
    whole: only === 'integer',
    choices,
    least: s.minimum ?? null,
    most: s.maximum ?? null,
    shortest: s.minLength ?? 0,
    longest: s.maxLength ?? null,
    pattern: s.pattern ?? '',
    moment: only === 'string' && (s.format === 'date' || s.format === 'date-time') ? s.format : null,
    unit: s['x-ogc-unit'] ?? '',
    first: s.default,
  }
}

/** What a rule has against what was typed, or null. The service has the last word. */
export function broken(f: Field, rule: Rule | undefined): string | null {
  const text = f.text.trim()
  if (!rule) return null
  if (text === '') return rule.required ? 'This is needed.' : null
  if (f.kind === 'number') {
    const n = Number(text.replace(',', '.'))
    if (rule.whole && !Number.isInteger(n)) return 'This has to be a whole number.'
    if (rule.least !== null && n < rule.least) return `This is at least ${rule.least}.`
    if (rule.most !== null && n > rule.most) return `This is at most ${rule.most}.`
  }
  if (f.kind === 'text') {
    const length = [...f.text].length
    if (length < rule.shortest) return `This has at least ${rule.shortest} characters.`
    if (rule.longest !== null && length > rule.longest)
      return `This has at most ${rule.longest} characters; now ${length}.`
    if (rule.pattern && !matches(rule.pattern, f.text)) return `This has to match ${rule.pattern}.`
  }
  if (rule.choices.length > 0 && !rule.choices.some((c) => String(c) === f.text)) return 'Choose one of those offered.'
  return null
}

function matches(pattern: string, text: string): boolean {
  try {
    return new RegExp(pattern, 'u').test(text)
  } catch {
    return true // the service has another kind of patterns, and tells
  }
}
