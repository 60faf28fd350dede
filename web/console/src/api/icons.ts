import { answer, type Schemas, service } from './service'

export type Icon = Schemas['Icon']

/** All icons as one SVG document. */
export async function fetchIconSheet(): Promise<string> {
  return (await answer(service.GET('/api/icon-sheet', { parseAs: 'text' }))) as string
}

export async function saveIcon(name: string, picture: File): Promise<Icon> {
  return answer(
    service.PUT('/api/icons/{icon}', {
      params: { path: { icon: name } },
      body: picture as unknown as string, // the contract calls bytes a string
      bodySerializer: (body) => body,
      headers: { 'Content-Type': 'application/octet-stream' },
    }),
  )
}

export async function deleteIcon(name: string): Promise<void> {
  await answer(service.DELETE('/api/icons/{icon}', { params: { path: { icon: name } } }))
}
