import { ServiceError } from './explain'
import { answer, collectionPath, type Schemas, service } from './service'

/** A JSON Schema, or a part of one, as far as the console looks at it. */
export interface JsonSchema {
  type?: string | string[]
  title?: string
  description?: string
  default?: unknown
  enum?: unknown[]
  const?: unknown
  minimum?: number
  maximum?: number
  minLength?: number
  maxLength?: number
  pattern?: string
  format?: string
  properties?: Record<string, JsonSchema>
  required?: string[]
  additionalProperties?: boolean | JsonSchema
  $ref?: string
  $defs?: Record<string, JsonSchema>
  'x-ogc-role'?: string
  'x-ogc-unit'?: string
  'x-ogc-propertySeq'?: number
}

/** What the items of a collection have to be or, if nobody has said, what they are. */
export interface ItemSchema {
  schema: JsonSchema
  said: boolean
  tag: string
}

export type SchemaReport = Schemas['SchemaReport']
export type Misfit = Schemas['Misfit']

export async function fetchSchema(collection: string): Promise<ItemSchema> {
  const response = await fetch(`${collectionPath(collection)}/schema`)
  const body: unknown = await response.json().catch(() => null)
  if (!response.ok) throw ServiceError.of(response.status, body)
  return {
    schema: body as JsonSchema,
    said: response.headers.get('Schema-Derived') === null,
    tag: response.headers.get('ETag') ?? '*',
  }
}

const path = '/api/collections/{collection}/schema'
const of = (collection: string) => ({ path: { collection } })
const document = (schema: JsonSchema) => schema as Record<string, unknown>

/** Says what items have to be, if the schema is still the one with the tag, and returns which are not so. */
export async function saveSchema(collection: string, schema: JsonSchema, tag: string): Promise<SchemaReport> {
  const params = { ...of(collection), header: { 'If-Match': tag } }
  return answer(service.PUT(path, { params, body: document(schema) }))
}

/** Returns which items are not as a schema wants them. */
export async function checkSchema(collection: string, schema: JsonSchema): Promise<SchemaReport> {
  const params = of(collection)
  return answer(service.POST('/api/collections/{collection}/schema/check', { params, body: document(schema) }))
}

export async function dropSchema(collection: string): Promise<void> {
  await answer(service.DELETE(path, { params: of(collection) }))
}

/** What of an item is not as the schema of its collection wants it, by an error; none if that is not what is wrong. */
export function misfitsOf(error: unknown): readonly Misfit[] {
  if (!(error instanceof ServiceError)) return []
  const { misfits, edits } = (error.problem ?? {}) as { misfits?: Misfit[]; edits?: { misfits?: Misfit[] }[] }
  return misfits ?? edits?.flatMap((e) => e.misfits ?? []) ?? []
}
