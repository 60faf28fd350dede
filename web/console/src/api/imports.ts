import { ServiceError } from './explain'
import { answer, collectionPath, type Schemas, service } from './service'

export type Import = Schemas['Import']
export type ImportReport = Schemas['ImportReport']
export type Inspection = Schemas['Inspection']
export type FileNote = Schemas['FileNote']
export type FileSide = NonNullable<FileNote['sides']>[number]
export type Setting = NonNullable<FileNote['set']>[number]

/** How a file is to be read: parameters of the service. */
export type FileOptions = Record<string, string>

/** What a new collection is made with, together with what is imported into it. */
export type NewCollection = Omit<
  Schemas['NewCollection'],
  'id' | 'guest_origins' | 'unconditional_edits' | 'alike_within' | 'history_days' | 'picture_mib'
>

const mostInspected = 256 << 20 // bytes of a file that are sent to be looked at

/** Reports what is in a file that is meant for a collection. Of a very large one only the beginning is sent. */
export async function inspectFile(
  file: File,
  into: string,
  options: FileOptions,
  category: string | null,
  signal: AbortSignal,
): Promise<Inspection> {
  const whole = file.size <= mostInspected || /\.kmz$/i.test(file.name)
  const query = {
    ...options,
    ...(into && { into }),
    ...(category !== null && { category_property: category }),
    partial: !whole,
  }
  return answer(
    service.POST('/api/inspect', {
      params: { query },
      body: (whole ? file : file.slice(0, mostInspected)) as unknown as string, // the contract calls bytes a string
      bodySerializer: (body) => body,
      headers: { 'Content-Type': 'application/octet-stream' },
      signal,
    }),
  )
}

/**
 * Sends a file that is then imported, telling the share of it that has been sent. If it is broken off before all of it
 * is sent, nothing is imported; after that it is too late to break off, and the answer comes.
 */
export function sendImport(
  file: File,
  into: string,
  make: NewCollection | null,
  options: FileOptions,
  progress: (share: number) => void,
  signal: AbortSignal,
): Promise<Import> {
  return new Promise((resolve, reject) => {
    const request = new XMLHttpRequest() // fetch does not say how much it has sent
    const query = new URLSearchParams({
      ...options,
      file_name: file.name,
      ...(make ? { ...make, create: 'true' } : {}),
    })
    request.open('POST', `${collectionPath(into)}/import?${query}`)
    request.setRequestHeader('Content-Type', 'application/octet-stream')
    request.setRequestHeader('Prefer', 'respond-async')
    request.responseType = 'json'
    request.upload.onprogress = (e) => progress(e.total > 0 ? e.loaded / e.total : 0)
    request.onload = () => {
      if (request.status === 202) resolve(request.response as Import)
      else reject(ServiceError.of(request.status, request.response))
    }
    request.onerror = () => reject(new TypeError('the service does not answer'))
    request.onabort = () => reject(new DOMException('cancelled', 'AbortError'))
    let sent = false
    request.upload.onload = () => (sent = true)
    signal.addEventListener('abort', () => {
      if (!sent) request.abort()
    })
    request.send(file)
  })
}

export async function fetchImport(id: string): Promise<Import> {
  return answer(service.GET('/api/imports/{import}', { params: { path: { import: id } } }))
}

/** The newest imports, the newest first. */
export async function fetchImports(limit: number): Promise<Import[]> {
  return (await answer(service.GET('/api/imports', { params: { query: { limit } } }))).imports
}

/** Calls off an import that is under way, or forgets one that is over. */
export async function dismissImport(id: string): Promise<void> {
  await answer(service.DELETE('/api/imports/{import}', { params: { path: { import: id } } }))
}

/** The link to the rejected rows of an import, as a file. */
export const rejectedLink = (id: string) => `/api/imports/${encodeURIComponent(id)}/rejected`
