import type { JsonSchema } from '../api/schemas'

/** What the values of a property are, as the editor has it. */
export type Of = 'anything' | 'text' | 'number' | 'whole' | 'truth' | 'date' | 'moment' | 'choice' | 'other'

export const kinds: Record<Of, string> = {
  anything: 'anything',
  text: 'a text',
  number: 'a number',
  whole: 'a whole number',
  truth: 'yes or no',
  date: 'a date',
  moment: 'a date with a time',
  choice: 'one of these',
  other: 'as the document has it',
}

/** A property of a schema, as a row of the editor. What the editor does not know of stays in its part. */
export interface Row {
  name: string
  part: JsonSchema
  required: boolean
}

export function rowsOf(schema: JsonSchema): Row[] {
  const required = new Set(schema.required ?? [])
  const rows = Object.entries(schema.properties ?? {})
    .filter(([, part]) => !part['x-ogc-role'])
    .map(([name, part]) => ({ name, part, required: required.has(name) }))
  const place = (r: Row) => r.part['x-ogc-propertySeq'] ?? Infinity
  return rows
    .map((r, i) => ({ r, i }))
    .sort((a, b) => place(a.r) - place(b.r) || a.i - b.i)
    .map(({ r }) => r)
}

/** A schema with other rows. */
export function withRows(schema: JsonSchema, rows: readonly Row[]): JsonSchema {
  const others = Object.entries(schema.properties ?? {}).filter(([, part]) => part['x-ogc-role'])
  const named = rows.map(({ name, part }, i): [string, JsonSchema] => [name, { ...part, 'x-ogc-propertySeq': i + 1 }])
  const roles = new Set(others.map(([name]) => name))
  const required = [
    ...(schema.required ?? []).filter((name) => roles.has(name)),
    ...rows.filter((r) => r.required).map((r) => r.name),
  ]
  const { required: _, ...rest } = schema
  return {
    ...rest,
    type: 'object',
    properties: Object.fromEntries([...others, ...named]),
    ...(required.length > 0 && { required }),
  }
}

export function kindOf(part: JsonSchema): Of {
  if (part.enum) return 'choice'
  switch (part.type) {
    case undefined:
      return part.$ref || part.const !== undefined ? 'other' : 'anything'
    case 'number':
      return 'number'
    case 'integer':
      return 'whole'
    case 'boolean':
      return 'truth'
    case 'string':
      return part.format === 'date' ? 'date' : part.format === 'date-time' ? 'moment' : 'text'
  }
  return 'other'
}

/** A part of another kind, with what it says that is not about its kind. */
export function asKind(part: JsonSchema, kind: Of): JsonSchema {
  const about: JsonSchema = {}
  for (const keyword of ['title', 'description', 'default', 'x-ogc-unit'] as const)
    if (part[keyword] !== undefined) Object.assign(about, { [keyword]: part[keyword] })
  const types: Partial<Record<Of, JsonSchema>> = {
    text: { type: 'string' },
    number: { type: 'number' },
    whole: { type: 'integer' },
    truth: { type: 'boolean' },
    date: { type: 'string', format: 'date' },
    moment: { type: 'string', format: 'date-time' },
    choice: { enum: part.enum ?? [] },
  }
  return { ...about, ...types[kind] }
}

// The geometry is described by the member with a role, whose format tells its type (OGC API - Features - Part 5).
const role = 'primary-geometry'

export const geometries: Record<string, string> = {
  'geometry-any': 'places, paths and areas',
  'geometry-point': 'places',
  'geometry-linestring-or-multilinestring': 'paths',
  'geometry-polygon-or-multipolygon': 'areas',
}

export const geometryOf = (schema: JsonSchema) =>
  Object.values(schema.properties ?? {}).find((p) => p['x-ogc-role'] === role)?.format ?? 'geometry-any'

export function withGeometry(schema: JsonSchema, format: string): JsonSchema {
  const properties = schema.properties ?? {}
  const name =
    Object.keys(properties).find((n) => properties[n]?.['x-ogc-role'] === role) ??
    ['geometry', 'geometry_of_item'].find((n) => !(n in properties)) ??
    'geometry_of_feature'
  return { ...schema, properties: { [name]: { 'x-ogc-role': role, format }, ...without(properties, name) } }
}

function without<T>(all: Record<string, T>, name: string): Record<string, T> {
  const { [name]: _, ...rest } = all
  return rest
}

/** Reads the values to choose from: as numbers if all are, and nothing of how they are written is lost. */
export function choicesOf(text: string): unknown[] {
  const all = text
    .split('\n')
    .map((line) => line.trim())
    .filter((line) => line !== '')
  return all.every((line) => String(Number(line)) === line) ? all.map(Number) : all
}
