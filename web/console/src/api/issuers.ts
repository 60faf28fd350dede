import { answer, type Schemas, service } from './service'

export type Issuer = Schemas['Issuer']
export type IssuerSettings = Schemas['IssuerSettings']
export type IssuerVerdict = Schemas['IssuerVerdict']

export async function fetchIssuers(): Promise<Issuer[]> {
  return (await answer(service.GET('/api/issuers'))).issuers
}

/** Keeps an issuer: a new one, or one that is there with other settings. */
export async function keepIssuer(id: string, settings: IssuerSettings, isNew: boolean): Promise<void> {
  if (isNew) await answer(service.POST('/api/issuers', { body: { id, ...settings } }))
  else await answer(service.PUT('/api/issuers/{issuer}', { params: { path: { issuer: id } }, body: settings }))
}

export async function deleteIssuer(issuer: string): Promise<void> {
  await answer(service.DELETE('/api/issuers/{issuer}', { params: { path: { issuer } } }))
}

/** What settings would make of a token. */
export async function tryIssuer(settings: IssuerSettings, token: string): Promise<IssuerVerdict> {
  return answer(service.POST('/api/issuers/check', { body: { settings, token } }))
}
