import createClient from 'openapi-fetch'
import { ServiceError } from './explain'
import type { components, paths } from './schema'

export type Schemas = components['schemas']

/** The service, as its contract has it. Lists are separated by commas. */
export const service = createClient<paths>({
  baseUrl: window.location.origin,
  querySerializer: { array: { style: 'form', explode: false } },
})

/** Is heard of on the window when the service does not know the user, or not any more. */
export const unknownUser = 'unknown-user'

service.use({
  onResponse({ response }) {
    if (response.status === 401) window.dispatchEvent(new Event(unknownUser))
  },
})

interface Answered<T> {
  data?: T
  error?: unknown
  response: Response
}

/** Waits for an answer and returns what is in it. It throws a ServiceError if the service refuses. */
export async function answer<T>(call: Promise<Answered<T>>): Promise<T> {
  const { data, error, response } = await call
  if (!response.ok) throw ServiceError.of(response.status, error)
  return data as T
}

/** What is in a value of a list parameter of the service: commas in it are not separators. */
export function listed(value: string): string {
  return value.replace(/[\\,]/g, '\\$&')
}

/** The path of a collection's own, as a link has it. */
export const collectionPath = (id: string) => `/api/collections/${encodeURIComponent(id)}`
