import createClient from 'openapi-fetch'
import type { paths } from '../console/src/api/schema'

declare const process: { argv: string[] }

// A client that is generated from the contract, with which a test calls a service: node client.mjs URL.
// Lists are separated by commas, as the contract has them.
const lists = { array: { style: 'form', explode: false } } as const
const client = createClient<paths>({ baseUrl: process.argv[2] ?? '', querySerializer: lists })

const { data: list } = await client.GET('/api/collections')
const [first] = list?.collections ?? []
if (!first) throw new Error('there are no collections')

const { data: page } = await client.GET('/api/collections/{collection}/items', {
  params: { path: { collection: first.id }, query: { bbox: [-180, -90, 180, 90], limit: 2 } },
})
const [item] = page?.features ?? []
if (!item) throw new Error('there are no items')
const name: unknown = item.properties['name'] // properties are open

const { data: markers } = await client.GET('/api/collections/{collection}/markers', {
  params: { path: { collection: first.id }, query: { bbox: [-22.5, -38.8, -21.5, -38.2], zoom: 10 } },
})

const { error } = await client.GET('/api/collections/{collection}', { params: { path: { collection: 'nothing' } } })
console.log(first.id, typeof name, markers?.matched, error?.status)
