<script setup lang="ts">
import type { IdleMap, MarkerSource, Position } from '@idlebeacon/map'
import Button from 'primevue/button'
import InputText from 'primevue/inputtext'
import Message from 'primevue/message'
import { computed, onMounted, onUnmounted, ref, shallowRef, useId, useTemplateRef, watch } from 'vue'
import type { Collection } from '../api/collections'
import { type Conflict, conflictOf, createItem, deleteItem, fetchItem, patchItem, type StoredItem } from '../api/edits'
import { explain } from '../api/explain'
import { fetchItems } from '../api/items'
import Icon from '../parts/Icon.vue'
import { useNotices } from '../stores/notices'
import ConflictChoice from './ConflictChoice.vue'
import { blankLike, degrees, type Field, fieldOf, pasted, patchOf, valueOf, written, wrongWith } from './fields'
import { forget, kept, keep } from './kept'
import { useDraft } from './useDraft'

// The form in which a place is added, or an item changed. On the map a marker of its own shows where it is.
const props = defineProps<{
  map: IdleMap
  collections: readonly Collection[] // that may be added to
  target: { collection: string; item: string | null } // null for a new place
}>()
const emit = defineEmits<{ close: []; source: [sources: MarkerSource[]] }>()

const notices = useNotices()
const id = useId()
const collection = ref(props.target.collection)
const item = shallowRef<StoredItem | null>(null) // as it was when it was opened, or as others have made it
const fields = ref<Field[]>([])
const at = ref<Position | null>(null) // null for areas and paths, which stay where they are
const lat = ref('')
const lon = ref('')
const problem = ref<string | null>(null)
const warnings = ref<string[]>([])
const conflict = shallowRef<Conflict | null>(null)
const busy = ref(false)
const sure = ref(false) // to delete it
const dirty = ref(false)
const adding = ref('') // the name of a further property
const form = useTemplateRef<HTMLElement>('form')

const chosen = computed(() => props.collections.find((c) => c.id === collection.value))
const isNew = computed(() => props.target.item === null)
const heading = computed(() => (isNew.value ? 'Add a place' : `Edit ${nameOf(item.value) || props.target.item}`))
const nameOf = (i: StoredItem | null) => {
  const name = i?.properties[chosen.value?.name_property ?? '']
  return typeof name === 'string' ? name : ''
}

useDraft(props.map, at, (sources) => emit('source', sources))
watch(at, (now, before) => {
  if (!now) return
  lat.value = written(now.lat)
  lon.value = written(now.lon)
  const placed = item.value && positionOf(item.value)
  if (before && !(placed?.lat === now.lat && placed.lon === now.lon)) dirty.value = true
})
watch(
  [fields, at, collection],
  () => {
    if (!dirty.value) return
    const edit = { collection: collection.value, fields: fields.value, at: at.value }
    keep({ ...edit, item: props.target.item, from: item.value })
  },
  { deep: true },
)

/** The position is what was typed, or pasted as two numbers. */
function typedAt(): void {
  problem.value = null
  const both = pasted(lat.value) ?? pasted(lon.value)
  const typed = { lat: degrees(lat.value), lon: degrees(lon.value) }
  if (both) at.value = both
  else if (typed.lat !== null && typed.lon !== null && Math.abs(typed.lat) <= 90 && Math.abs(typed.lon) <= 180)
    at.value = { lat: typed.lat, lon: typed.lon }
  else problem.value = 'The latitude is from -90 to 90 degrees, the longitude from -180 to 180.'
}

const centre = () => (at.value = props.map.view.centre)

/** Nudges the place by a metre, by ten with the shift key. */
function nudge(e: KeyboardEvent): void {
  const [x, y] = { ArrowLeft: [-1, 0], ArrowRight: [1, 0], ArrowUp: [0, 1], ArrowDown: [0, -1] }[e.key] ?? []
  if (x === undefined || y === undefined || !at.value) return
  e.preventDefault()
  const metres = e.shiftKey ? 10 : 1
  const degree = 111_195 // metres
  const { lat, lon } = at.value
  const shrink = Math.max(Math.cos((lat * Math.PI) / 180), 1e-6)
  at.value = { lat: lat + (y * metres) / degree, lon: lon + (x * metres) / degree / shrink }
}

function show(i: StoredItem): void {
  item.value = i
  fields.value = Object.entries(i.properties).map(([name, value]) => fieldOf(name, value))
  at.value = positionOf(i)
}

function positionOf(i: StoredItem): Position | null {
  if (i.geometry.type !== 'Point') return null
  const [lon = 0, lat = 0] = i.geometry.coordinates as number[]
  return { lat, lon }
}

/** The properties that places of the collection have, for the form of a new one. */
async function offer(): Promise<void> {
  const of = chosen.value
  if (!of) return
  const first = [of.name_property, of.category_property].filter((p) => p !== '')
  fields.value = first.map((name) => fieldOf(name, ''))
  const { items } = await fetchItems(of.id, { filter: '', sort: '', offset: 0, limit: 20 })
  const others = new Map<string, unknown>()
  for (const i of items)
    for (const [name, value] of Object.entries(i.properties)) if (value !== null) others.set(name, value)
  const kinds = [...others].filter(([name]) => !first.includes(name)).slice(0, 12)
  fields.value = [...fields.value, ...kinds.map(([name, value]) => blankLike(name, value))]
}

onMounted(async () => {
  const before = kept()
  const same = before?.item === props.target.item && (isNew.value || before?.collection === props.target.collection)
  try {
    if (props.target.item !== null) show(await fetchItem(collection.value, props.target.item))
    else {
      centre()
      await offer()
    }
    if (before && same) {
      item.value = before.from // what others have changed since is found out when it is saved
      collection.value = before.collection
      fields.value = before.fields
      at.value = before.at
      dirty.value = true
    }
  } catch (e) {
    problem.value = `This cannot be edited. ${explain(e)}`
  }
  form.value?.querySelector<HTMLElement>('input')?.focus()
})

const categories = computed(() => chosen.value?.categories.map((c) => c.category).filter((c) => c !== '') ?? [])

function addField(): void {
  const name = adding.value.trim()
  if (name === '' || fields.value.some((f) => f.name === name)) return
  fields.value.push({ name, kind: 'text', text: '' })
  adding.value = ''
  dirty.value = true
}
function removeField(f: Field): void {
  fields.value = fields.value.filter((other) => other !== f)
  dirty.value = true
}

/** The properties that were typed in. */
function properties(): Record<string, unknown> {
  const all = fields.value.map((f): [string, unknown] => [f.name, valueOf(f)])
  return Object.fromEntries(all.filter(([, value]) => value !== undefined))
}

/** What the form makes different of an item: properties, null for those taken out, and where it is. */
function own(from: StoredItem): { properties?: Record<string, unknown>; geometry?: object } {
  const now = properties()
  const names = Object.keys(patchOf(from.properties, now) as object)
  const changed = Object.fromEntries(names.map((name) => [name, now[name] ?? null]))
  const was = positionOf(from)
  const moved = at.value && was && (at.value.lat !== was.lat || at.value.lon !== was.lon)
  return {
    ...(names.length > 0 && { properties: changed }),
    ...(moved && { geometry: { type: 'Point', coordinates: coordinates(from, at.value) } }),
  }
}

/** The coordinates of a position, with the elevation that the item had. */
function coordinates(from: StoredItem | null, to: Position | null): number[] {
  const elevation = from ? (from.geometry.coordinates as number[]).slice(2) : []
  return to ? [Number(written(to.lon)), Number(written(to.lat)), ...elevation] : []
}

async function save(): Promise<void> {
  if (busy.value || fields.value.some(wrongWith)) return
  busy.value = true
  problem.value = null
  try {
    const saved = await send()
    forget()
    dirty.value = false
    const told = saved?.warnings?.map((w) => w.reason) ?? []
    if (told.length > 0 && saved) {
      show(saved)
      warnings.value = told
    } else {
      notices.done(isNew.value ? 'The place is added.' : 'Saved.')
      emit('close')
    }
  } catch (e) {
    conflict.value = conflictOf(e)
    if (!conflict.value) problem.value = `This is not saved. ${explain(e)}`
  }
  busy.value = false
}

async function send(): Promise<StoredItem | null> {
  if (item.value) {
    const change = own(item.value)
    if (Object.keys(change).length === 0) return item.value
    const patch = { ...change, ...(change.properties && { properties: patchOf(item.value.properties, properties()) }) }
    return patchItem(collection.value, String(item.value.id), patch, item.value.etag ?? '')
  }
  return createItem(collection.value, {
    type: 'Feature',
    geometry: { type: 'Point', coordinates: coordinates(null, at.value) },
    properties: properties(),
  })
}

/** Goes on from the item as others have made it, with what is kept of one's own. */
function settle(members: readonly string[]): void {
  const c = conflict.value
  const mine = item.value
  if (!c || !mine) return
  const ours = own(mine)
  const position = at.value
  show(c.current)
  if (ours.geometry && members.includes('/geometry')) at.value = position
  for (const [name, value] of Object.entries(ours.properties ?? {})) {
    const theirs = c.differing.some((d) => d.member === `/properties/${name.replace(/~/g, '~0').replace(/\//g, '~1')}`)
    if (theirs && !members.includes(`/properties/${name}`)) continue
    const field = fields.value.find((f) => f.name === name)
    if (value === null) fields.value = fields.value.filter((f) => f.name !== name)
    else if (field) Object.assign(field, fieldOf(name, value))
    else fields.value.push(fieldOf(name, value))
  }
  conflict.value = null
  void save()
}

async function remove(): Promise<void> {
  if (!item.value) return
  if (!sure.value) {
    sure.value = true
    return
  }
  busy.value = true
  try {
    await deleteItem(collection.value, String(item.value.id), item.value.etag ?? '')
    forget()
    notices.done('The place is deleted. The page Changes can bring it back.')
    emit('close')
  } catch (e) {
    const changed = conflictOf(e)
    problem.value = changed ? 'Somebody has just changed it, so it is not deleted.' : explain(e)
    if (changed) show(changed.current)
  }
  busy.value = sure.value = false
}

function cancel(): void {
  forget()
  emit('close')
}
function leaving(e: BeforeUnloadEvent): void {
  if (dirty.value) e.preventDefault()
}
onMounted(() => window.addEventListener('beforeunload', leaving))
onUnmounted(() => window.removeEventListener('beforeunload', leaving))
</script>

<template>
  <section ref="form" class="edit" :aria-labelledby="id" @keydown.esc.stop="emit('close')">
    <h2 :id="id" dir="auto">{{ heading }}</h2>
    <Message v-if="problem" severity="error" class="told">{{ problem }}</Message>
    <Message v-for="w in warnings" :key="w" severity="warn" class="told">Saved, but: {{ w }}</Message>
    <ConflictChoice
      v-if="conflict && item"
      :conflict="conflict"
      :mine="own(item)"
      @settle="settle"
      @cancel="conflict = null"
    />
    <form v-else @submit.prevent="save" @input="dirty = true">
      <label v-if="isNew && collections.length > 1"
        >Collection
        <select v-model="collection" @change="offer">
          <option v-for="c in collections" :key="c.id" :value="c.id">{{ c.title }}</option>
        </select>
      </label>
      <fieldset v-if="at">
        <legend>Where</legend>
        <p class="soft">Click the map, drag the marker, or type.</p>
        <div class="pair">
          <label>Latitude<InputText v-model="lat" inputmode="decimal" size="small" @change="typedAt" /></label>
          <label>Longitude<InputText v-model="lon" inputmode="decimal" size="small" @change="typedAt" /></label>
        </div>
        <div class="pair">
          <Button label="Map centre" size="small" severity="secondary" @click="centre" />
          <Button
            label="Nudge ← ↑ → ↓"
            title="Arrow keys move it by a metre, with Shift by ten"
            size="small"
            severity="secondary"
            @keydown="nudge"
          />
        </div>
      </fieldset>
      <div v-for="f in fields" :key="f.name" class="field">
        <label :for="`${id}-${f.name}`" dir="auto">{{ f.name }}</label>
        <select v-if="f.kind === 'truth'" :id="`${id}-${f.name}`" v-model="f.text">
          <option value="">—</option>
          <option value="true">yes</option>
          <option value="false">no</option>
        </select>
        <textarea
          v-else-if="f.text.length > 60 || f.kind === 'json'"
          :id="`${id}-${f.name}`"
          v-model="f.text"
          rows="3"
          dir="auto"
        />
        <InputText
          v-else
          :id="`${id}-${f.name}`"
          v-model="f.text"
          size="small"
          dir="auto"
          :inputmode="f.kind === 'number' ? 'decimal' : 'text'"
          :list="f.name === chosen?.category_property ? `${id}-categories` : undefined"
          :invalid="wrongWith(f) !== null"
        />
        <button type="button" class="drop" :aria-label="`Take out ${f.name}`" @click="removeField(f)">
          <Icon name="x" />
        </button>
        <p v-if="wrongWith(f)" class="wrong">{{ wrongWith(f) }}</p>
      </div>
      <datalist :id="`${id}-categories`">
        <option v-for="c in categories" :key="c" :value="c" />
      </datalist>
      <div class="field">
        <label :for="`${id}-adding`">Another property</label>
        <InputText :id="`${id}-adding`" v-model="adding" size="small" @keydown.enter.prevent="addField" />
        <button type="button" class="drop" aria-label="Add this property" @click="addField"
          ><Icon name="plus"
        /></button>
      </div>
      <div class="ways">
        <Button type="submit" label="Save" :disabled="busy || fields.some((f) => wrongWith(f))" />
        <Button label="Cancel" severity="secondary" @click="cancel" />
        <Button
          v-if="item"
          :label="sure ? 'Really delete' : 'Delete'"
          :severity="sure ? 'danger' : 'secondary'"
          :disabled="busy"
          class="away"
          @click="remove"
        />
      </div>
    </form>
  </section>
</template>

<style scoped>
.edit {
  position: absolute;
  z-index: 4;
  inset: 12px 70px auto auto;
  width: 330px;
  max-height: calc(100% - 24px);
  box-sizing: border-box;
  overflow: auto;
  padding: 0.8rem 1rem 1rem;
  border: 1px solid var(--rule);
  border-radius: 8px;
  background: var(--card);
  box-shadow: 0 2px 12px rgb(0 0 0 / 20%);
}
h2 {
  margin: 0 0 0.6rem;
  font-size: 1.05rem;
  overflow-wrap: anywhere;
}
.told {
  margin-bottom: 0.6rem;
}
form > * + * {
  margin-top: 0.55rem;
}
label {
  display: block;
  overflow-wrap: anywhere;
}
select,
textarea {
  width: 100%;
  box-sizing: border-box;
  padding: 0.35rem 0.5rem;
  border: 1px solid var(--rule);
  border-radius: 6px;
  background: var(--card);
  color: inherit;
  font: inherit;
}
fieldset {
  border: 1px solid var(--rule);
  border-radius: 6px;
  padding: 0.3rem 0.7rem 0.7rem;
}
.pair {
  display: grid;
  grid-template-columns: 1fr 1fr;
  gap: 0.5rem;
  margin: 0.3rem 0 0.5rem;
}
.pair :deep(input) {
  width: 100%;
}
.field {
  display: grid;
  grid-template-columns: 1fr auto;
  gap: 0.1rem 0.3rem;
  align-items: center;
}
.field > label,
.field > .wrong {
  grid-column: 1 / -1;
}
.field :deep(input) {
  width: 100%;
  min-width: 0;
}
.wrong {
  color: var(--signal);
}
.drop {
  padding: 0.3rem;
  border: 0;
  border-radius: 6px;
  background: none;
  color: inherit;
  cursor: pointer;
}
.ways {
  position: sticky;
  bottom: -1rem;
  display: flex;
  gap: 0.5rem;
  margin: 0.9rem -1rem -1rem;
  padding: 0.6rem 1rem;
  border-top: 1px solid var(--rule);
  background: var(--card);
}
.away {
  margin-inline-start: auto;
}
@media (max-width: 700px) {
  .edit {
    inset: auto 0 0 0;
    width: auto;
    height: 55%;
    max-height: none;
    border-radius: 8px 8px 0 0;
  }
}
</style>
