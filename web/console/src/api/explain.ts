/** An answer of the service that says what went wrong. */
export class ServiceError extends Error {
  constructor(
    readonly status: number,
    detail: string,
    readonly problem: unknown = null, // what else the service has said
  ) {
    super(detail)
  }

  /** The error that a problem document, or anything else that came with the status, describes. */
  static of(status: number, problem: unknown): ServiceError {
    const detail = (problem as { detail?: unknown } | null | undefined)?.detail
    return new ServiceError(status, typeof detail === 'string' ? detail : `the service answered ${status}`, problem)
  }
}

/** Whether an error only says that a request was broken off. */
export function isBrokenOff(error: unknown): boolean {
  return error instanceof DOMException && error.name === 'AbortError'
}

/** What a user is told of an error, as a sentence. */
export function explain(error: unknown): string {
  if (error instanceof ServiceError) return sentence(error.message)
  if (error instanceof TypeError) return 'The service does not answer.'
  return sentence(error instanceof Error ? error.message : String(error))
}

/** Makes a sentence of what the service said. The name of a member that it begins with stays as it is. */
export function sentence(text: string): string {
  const member = /^[\w.[\]]+: /.test(text)
  const begin = member ? text.charAt(0) : text.charAt(0).toUpperCase()
  return begin + text.slice(1) + (/[.!?]$/.test(text) ? '' : '.')
}
