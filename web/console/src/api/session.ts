import { answer, type Schemas, service } from './service'

export type Session = Schemas['Session']

/** Who the service takes the user for. */
export async function fetchSession(): Promise<Session> {
  return answer(service.GET('/api/session'))
}

/** Signs in by a key, or by a code that is good once. */
export async function signIn(by: Schemas['SignIn']): Promise<Session> {
  return answer(service.POST('/api/session', { body: by }))
}

/** Signs out here, or wherever the same key or person is signed in. */
export async function signOut(everywhere: boolean): Promise<void> {
  await answer(service.DELETE('/api/session', { params: { query: { everywhere } } }))
}
