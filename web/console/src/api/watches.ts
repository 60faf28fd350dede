import { answerAt } from './live'
import { answer, listed, type Schemas, service } from './service'

export type Watch = Schemas['Watch']
export type WatchRule = Schemas['WatchRule']
export type WatchTried = Schemas['WatchTried']
export type Hook = Schemas['Hook']
export type Delivery = Schemas['Delivery']
export type NoticeKind = Schemas['Notice']['kind']
/** One thing that a watch noticed. */
export type Noticed = Schemas['Notice']

export const fetchWatches = (signal: AbortSignal | null = null) =>
  answerAt<Schemas['Watches']>('/api/watches', signal).then((w) => w.watches)

export const createWatch = (body: Schemas['NewWatch']) => answer(service.POST('/api/watches', { body }))

export const changeWatch = (watch: string, body: Schemas['WatchUpdate']) =>
  answer(service.PATCH('/api/watches/{watch}', { params: { path: { watch } }, body }))

export const removeWatch = (watch: string) =>
  answer(service.DELETE('/api/watches/{watch}', { params: { path: { watch } } }))

/** What a rule would have noticed in the last hours. */
export const tryWatch = (rule: WatchRule, hours: number) =>
  answer(
    service.POST('/api/watches/try', {
      body: { rule, from: new Date(Date.now() - hours * 3_600_000).toISOString() },
    }),
  )

/** What notices are asked for. */
export interface NoticeListing {
  devices?: readonly string[]
  watches?: readonly string[]
  groups?: readonly string[]
  kinds?: readonly string[]
  from?: Date
  to?: Date
  before?: number
  limit?: number
}

const list = (ids: readonly string[]) => ids.map(listed).join(',')

/** A page of notices, the newest first, and whether there are more. */
export async function fetchNotices(
  l: NoticeListing,
  signal: AbortSignal | null = null,
): Promise<{ notices: Noticed[]; more: boolean }> {
  const query = {
    limit: l.limit ?? 50,
    ...(l.groups?.length && { groups: list(l.groups) }),
    ...(l.devices?.length && { devices: list(l.devices) }),
    ...(l.watches?.length && { watches: list(l.watches) }),
    ...(l.kinds?.length && { kinds: list(l.kinds) }),
    ...(l.from && { from: l.from.toISOString() }),
    ...(l.to && { to: l.to.toISOString() }),
    ...(l.before !== undefined && { before: l.before }),
  }
  const found = await answer(service.GET('/api/notices', { params: { query }, signal }))
  return { notices: found.notices, more: found.links.some((link) => link.rel === 'next') }
}

export const fetchHooks = () => answer(service.GET('/api/hooks')).then((h) => h.hooks)

export const createHook = (body: Schemas['NewHook']) => answer(service.POST('/api/hooks', { body }))

export const changeHook = (hook: string, body: Schemas['HookUpdate']) =>
  answer(service.PATCH('/api/hooks/{hook}', { params: { path: { hook } }, body }))

export const removeHook = (hook: string) => answer(service.DELETE('/api/hooks/{hook}', { params: { path: { hook } } }))

export const fetchDeliveries = (hook: string, state?: Delivery['state']) =>
  answer(
    service.GET('/api/hooks/{hook}/deliveries', {
      params: { path: { hook }, query: { limit: 20, ...(state && { state }) } },
    }),
  ).then((d) => d.deliveries)

/** Sends a message again, or all that were given up. */
export const sendAgain = (hook: string, delivery?: number) =>
  delivery === undefined
    ? answer(service.POST('/api/hooks/{hook}/deliveries/again', { params: { path: { hook } } }))
    : answer(
        service.POST('/api/hooks/{hook}/deliveries/{delivery}/again', {
          params: { path: { hook, delivery: String(delivery) } },
        }),
      )
