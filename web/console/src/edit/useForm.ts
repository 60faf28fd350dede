import type { Position } from '@idlebeacon/map'
import { geometryOf, type SketchKind, shapeOf, type SketchShape } from '@idlebeacon/map/sketch'
import type { Geometry } from 'geojson'
import { computed, ref, shallowRef } from 'vue'
import type { Collection } from '../api/collections'
import type { Edit, StoredItem } from '../api/edits'
import { fetchSchema } from '../api/schemas'
import { type Field, fieldOf, hasNull, patchOf, valueOf, written, wrongWith } from './fields'
import { broken, type Rule, rulesOf } from './rules'

/** What is being edited: all that undo, redo and a reload bring back. */
export interface Draft {
  fields: Field[]
  at: Position | null // of a place
  shape: SketchShape | null // of a path or an area
}

const mostOffered = 14 // properties that a new item is asked for if nobody has said which it has

/** The form of an item: its properties and where it is, what they have to be, and the edit that they make. */
export function useForm() {
  const item = shallowRef<StoredItem | null>(null) // as it was when it was opened, or as others have made it
  const fields = ref<Field[]>([])
  const at = shallowRef<Position | null>(null)
  const shape = shallowRef<SketchShape | null>(null)
  const rules = shallowRef<ReadonlyMap<string, Rule>>(new Map())
  const extra = ref(true) // whether other properties are allowed

  const draft = (): Draft => ({ fields: fields.value, at: at.value, shape: shape.value })
  function put(d: Draft): void {
    fields.value = d.fields
    at.value = d.at
    shape.value = d.shape
  }

  /** Finds out what the items of a collection have to be. Without the service the form does without. */
  async function learn(of: Collection): Promise<string[]> {
    const found = await fetchSchema(of.id).catch(() => null)
    const all = rulesOf(found?.schema ?? {})
    rules.value = all
    extra.value = found?.schema.additionalProperties !== false
    const first = [of.name_property, of.category_property].filter((p) => p !== '')
    const names = [...new Set([...first, ...all.keys()])]
    return found?.said ? names : names.slice(0, mostOffered)
  }

  const blank = (name: string): Field => {
    const rule = rules.value.get(name)
    const field: Field = { name, kind: rule?.kind ?? 'text', text: '' }
    return rule?.first === undefined ? field : { ...field, ...fieldOf(name, rule.first) }
  }

  /** Begins a new item of a collection. What was typed already stays. */
  async function begin(of: Collection): Promise<void> {
    const before = fields.value.filter((f) => f.text.trim() !== '')
    const names = await learn(of)
    const typed = new Map(before.map((f) => [f.name, f]))
    fields.value = [
      ...names.map((name) => typed.get(name) ?? blank(name)),
      ...before.filter((f) => !names.includes(f.name)),
    ]
  }

  function show(i: StoredItem): void {
    item.value = i
    const own = Object.entries(i.properties).map(([name, value]) => typedAs(name, value))
    const others = [...rules.value].filter(
      ([name, r]) => !(name in i.properties) && (r.required || extra.value === false),
    )
    fields.value = [...own, ...others.map(([name]) => blank(name))]
    at.value = positionOf(i)
    shape.value = at.value ? null : shapeOf(i.geometry as Geometry)
  }
  function typedAs(name: string, value: unknown): Field {
    const field = fieldOf(name, value)
    const kind = rules.value.get(name)?.kind
    return value === null && kind ? { ...field, kind } : field
  }

  /** Makes a form for a place one for a path or an area, or back. */
  function become(kind: SketchKind | 'place', centre: Position): void {
    at.value = kind === 'place' ? centre : null
    shape.value = kind === 'place' ? null : { kind, lines: [] }
  }

  /** The properties that were typed in. */
  function properties(): Record<string, unknown> {
    const all = fields.value.map((f): [string, unknown] => [f.name, valueOf(f)])
    return Object.fromEntries(all.filter(([, value]) => value !== undefined))
  }

  /** Where the item is now, as GeoJSON; null if that is not told yet. */
  function geometry(): Geometry | null {
    if (shape.value) return geometryOf(shape.value)
    if (!at.value) return null
    const elevation = item.value ? (item.value.geometry.coordinates as number[]).slice(2) : []
    return { type: 'Point', coordinates: [Number(written(at.value.lon)), Number(written(at.value.lat)), ...elevation] }
  }

  /** What the form makes different of an item: properties, null for those taken out, and where it is. */
  function own(from: StoredItem): { properties?: Record<string, unknown>; geometry?: Geometry } {
    const now = properties()
    const names = Object.keys(patchOf(from.properties, now) as object)
    const changed = Object.fromEntries(names.map((name) => [name, now[name] ?? null]))
    const is = geometry()
    return {
      ...(names.length > 0 && { properties: changed }),
      ...(is && moved(from) && { geometry: is }),
    }
  }
  function moved(from: StoredItem): boolean {
    const was = positionOf(from)
    if (at.value && was) return at.value.lat !== was.lat || at.value.lon !== was.lon
    return JSON.stringify(shape.value) !== JSON.stringify(shapeOf(from.geometry as Geometry))
  }

  /** The edit that the form asks for, or null if it changes nothing. */
  function edit(): Edit | null {
    const feature = (): Edit['feature'] =>
      ({ type: 'Feature', geometry: geometry(), properties: properties() }) as unknown as Edit['feature']
    if (!item.value) return { op: 'create', feature: feature() }
    const change = own(item.value)
    if (Object.keys(change).length === 0) return null
    const about = { id: String(item.value.id), if_match: item.value.etag ?? '*' }
    if (Object.values(change.properties ?? {}).some(hasNull)) return { op: 'replace', ...about, feature: feature() }
    const patch = {
      ...(change.geometry && { geometry: change.geometry }),
      ...(change.properties && { properties: patchOf(item.value.properties, properties()) }),
    }
    return { op: 'patch', ...about, patch: patch as Edit['patch'] }
  }

  const wrong = computed(() => fields.value.some((f) => wrongWith(f) ?? broken(f, rules.value.get(f.name))))
  const placed = computed(() => at.value !== null || (shape.value !== null && geometryOf(shape.value) !== null))

  return { item, fields, at, shape, rules, extra, wrong, placed, draft, put, learn, begin, show, become, own, edit }
}

export function positionOf(i: StoredItem): Position | null {
  if (i.geometry.type !== 'Point') return null
  const [lon = 0, lat = 0] = i.geometry.coordinates as number[]
  return { lat, lon }
}
