<script setup lang="ts">
import type { Box } from '@idlebeacon/map'
import InputText from 'primevue/inputtext'
import { computed, onUnmounted, ref, shallowRef, useTemplateRef, watch } from 'vue'
import type { Collection } from '../api/collections'
import BulkBar from '../edit/BulkBar.vue'
import { explain } from '../api/explain'
import { fetchItems, type Item } from '../api/items'
import { everything } from '../api/selection'
import ExportChoice from '../parts/ExportChoice.vue'
import { extentOf } from '../parts/extent'
import { useSession } from '../stores/session'
import { counted, numberText } from '../text/format'

// The items of a collection that meet a condition, in any order. Only the rows in sight are there, and fetched as they
// come.
const props = defineProps<{
  collection: Collection
  filter: string // the condition that is listed by
  sort: string // the property, with - before it for descending order; "" for the order of ids
}>()
const emit = defineEmits<{ show: [box: Box | null]; list: [filter: string, sort: string] }>()

const pageSize = 100
const rowHeight = 29 // CSS pixels
const margin = 12 // rows that are ready on each side of those in sight
const mostRows = 1_000_000 // that a page can be high enough for
const keptPages = 30

const pages = shallowRef<ReadonlyMap<number, Item[]>>(new Map())
const matched = ref(0)
const filter = ref(props.filter) // as it is being typed
const problem = ref<string | null>(null)
const busy = ref(true)
const top = ref(0) // how far the table is scrolled, and how much of it is in sight, in CSS pixels
const height = ref(420)
const columns = ref<string[]>([])
const scroll = useTemplateRef<HTMLElement>('scroll')
let request = new AbortController()
let timer = 0
let stale = true // what is there belongs to another listing, or to the past

const rows = computed(() => Math.min(matched.value, mostRows))
const first = computed(() => Math.max(0, Math.min(Math.floor(top.value / rowHeight) - margin, rows.value - 1)))
const last = computed(() => Math.min(rows.value, Math.ceil((top.value + height.value) / rowHeight) + margin)) // and one
const shown = computed(() =>
  Array.from({ length: Math.max(0, last.value - first.value) }, (_, i) => {
    const row = first.value + i
    return { row, item: pages.value.get(Math.floor(row / pageSize))?.[row % pageSize] }
  }),
)

/** The properties of some items, those that most of them have first. */
function columnsOf(items: readonly Item[]): string[] {
  const counts = new Map<string, number>()
  for (const item of items) {
    for (const name of Object.keys(item.properties)) counts.set(name, (counts.get(name) ?? 0) + 1)
  }
  return [...counts]
    .sort((a, b) => b[1] - a[1])
    .map(([name]) => name)
    .slice(0, 12)
}

/** Fetches the pages in sight that are not there yet, or all of them anew. */
async function load(anew = false): Promise<void> {
  stale ||= anew
  let wanted = [
    ...new Set([Math.floor(first.value / pageSize), Math.floor(Math.max(first.value, last.value - 1) / pageSize)]),
  ]
  if (!stale) wanted = wanted.filter((p) => !pages.value.has(p))
  if (wanted.length === 0) return
  request.abort()
  const mine = (request = new AbortController())
  busy.value = true
  try {
    const found = await Promise.all(
      wanted.map((p) =>
        fetchItems(
          props.collection.id,
          { filter: props.filter, sort: props.sort, offset: p * pageSize, limit: pageSize },
          mine.signal,
        ),
      ),
    )
    const kept = stale ? [] : [...pages.value].slice(-keptPages)
    pages.value = new Map([...kept, ...wanted.map((p, i): [number, Item[]] => [p, found[i]?.items ?? []])])
    matched.value = found[0]?.matched ?? 0
    if (columns.value.length === 0 || (stale && wanted.includes(0))) columns.value = columnsOf(found[0]?.items ?? [])
    stale = false
    problem.value = null
  } catch (e) {
    if (mine.signal.aborted) return
    problem.value = explain(e)
  }
  busy.value = false
}

/** Asks for another listing, which is shown from its beginning. */
function ask(sort = props.sort): void {
  clearTimeout(timer)
  emit('list', filter.value.trim(), sort)
}
function typed(): void {
  clearTimeout(timer)
  timer = window.setTimeout(() => ask(), 350)
}
function sortBy(column: string): void {
  ask(props.sort === column ? `-${column}` : props.sort === `-${column}` ? '' : column)
}
watch([() => props.filter, () => props.sort], ([now]) => {
  if (filter.value.trim() !== now) filter.value = now
  scroll.value?.scrollTo({ top: 0 })
  top.value = 0
  void load(true)
})
const sorted = (column: string) =>
  props.sort === column ? 'ascending' : props.sort === `-${column}` ? 'descending' : 'none'
const arrow = (column: string) => ({ ascending: '▲', descending: '▼', none: '' })[sorted(column)]

watch(
  () => props.collection.change,
  () => void load(true),
  { immediate: true },
)
watch([first, last], () => void load())
onUnmounted(() => {
  request.abort()
  clearTimeout(timer)
})
// The items that are chosen, to be changed as one.
const session = useSession()
const chosen = shallowRef<ReadonlyMap<string, Item>>(new Map())
const mostChosen = 1000
function choose(item: Item, on: boolean): void {
  const next = new Map(chosen.value)
  if (on) next.set(item.id, item)
  else next.delete(item.id)
  chosen.value = next
}
async function chooseAll(on: boolean): Promise<void> {
  const listing = { filter: props.filter, sort: props.sort, offset: 0, limit: mostChosen }
  const found = on ? await fetchItems(props.collection.id, listing).catch(() => null) : null
  chosen.value = new Map(found?.items.map((i): [string, Item] => [i.id, i]))
}
watch([() => props.filter, () => props.collection.change], () => (chosen.value = new Map()))

function scrolled(): void {
  top.value = scroll.value?.scrollTop ?? 0
  height.value = scroll.value?.clientHeight ?? height.value
}

function text(item: Item, name: string): string {
  const value = (item.properties as Record<string, unknown>)[name]
  return value === null || value === undefined ? '' : typeof value === 'object' ? JSON.stringify(value) : String(value)
}
</script>

<template>
  <div class="items">
    <label>
      Condition
      <InputText
        v-model="filter"
        size="small"
        placeholder="berths >= 4"
        spellcheck="false"
        :invalid="problem !== null"
        @input="typed"
        @keydown.enter="ask()"
      />
    </label>
    <span role="status">{{ counted(matched, 'item', 'items') }}</span>
    <span v-if="matched > rows"> · the first {{ numberText(rows) }} can be reached; narrow them by a condition</span>
    <ExportChoice
      v-if="filter.trim() && !problem"
      class="export"
      :collection="collection"
      label="Export these as …"
      name="Export what meets the condition"
      :chosen="{ ...everything, filter: filter.trim() }"
    />
    <p v-if="problem" role="alert" class="problem">{{ problem }}</p>
    <BulkBar
      v-if="chosen.size > 0"
      class="chosen"
      :collection="collection"
      :items="[...chosen.values()]"
      :names="columns"
      @done="chosen = new Map()"
    />
    <div
      ref="scroll"
      class="scroll"
      tabindex="0"
      :aria-label="`Items of ${collection.title}`"
      :aria-busy="busy"
      @scroll.passive="scrolled"
    >
      <table :aria-rowcount="matched + 1">
        <thead>
          <tr aria-rowindex="1">
            <th v-if="session.edits" scope="col"
              ><input
                type="checkbox"
                :checked="chosen.size > 0 && chosen.size >= matched"
                :disabled="matched === 0 || matched > mostChosen"
                aria-label="Choose all that are listed"
                @change="chooseAll(($event.target as HTMLInputElement).checked)"
            /></th>
            <th scope="col" :aria-sort="sorted('id')">
              <button type="button" class="sort" @click="sortBy('id')"
                >id <span aria-hidden="true">{{ arrow('id') }}</span></button
              >
            </th>
            <th scope="col">Geometry</th>
            <th v-for="c in columns" :key="c" scope="col" :aria-sort="sorted(c)">
              <button type="button" class="sort" @click="sortBy(c)"
                >{{ c }} <span aria-hidden="true">{{ arrow(c) }}</span></button
              >
            </th>
          </tr>
        </thead>
        <tbody>
          <tr v-if="first > 0" aria-hidden="true" :style="{ height: `${first * rowHeight}px` }" />
          <tr v-for="{ row, item } in shown" :key="row" :aria-rowindex="row + 2" class="row">
            <td v-if="session.edits"
              ><input
                v-if="item"
                type="checkbox"
                :checked="chosen.has(item.id)"
                :aria-label="`Choose ${item.id}`"
                @change="choose(item, ($event.target as HTMLInputElement).checked)"
            /></td>
            <template v-if="item">
              <th scope="row"
                ><button type="button" title="Show on map" @click="emit('show', extentOf([item.geometry]))">{{
                  item.id
                }}</button></th
              >
              <td>{{ item.geometry.type }}</td>
              <td v-for="c in columns" :key="c" dir="auto" :title="text(item, c)">{{ text(item, c) }}</td>
            </template>
            <td v-else :colspan="columns.length + 2" class="wait">…</td>
          </tr>
          <tr v-if="last < rows" aria-hidden="true" :style="{ height: `${(rows - last) * rowHeight}px` }" />
        </tbody>
      </table>
    </div>
  </div>
</template>

<style scoped>
.items {
  flex-basis: 100%;
  min-width: 0;
}
label {
  margin-inline-end: 1rem;
}
.export {
  margin-inline-start: 1rem;
}
.chosen {
  margin-top: 0.5rem;
  padding: 0.5rem 0.8rem;
  border: 1px solid var(--rule);
  border-radius: 6px;
}
.problem {
  color: var(--signal);
}
.scroll {
  margin-top: 0.5rem;
  max-height: 420px;
  overflow: auto;
  border: 1px solid var(--rule);
  border-radius: 6px;
}
table {
  border-collapse: collapse;
  font-size: 0.85rem;
}
th,
td {
  padding: 0.25rem 0.6rem;
  max-width: 260px;
  overflow: hidden;
  text-overflow: ellipsis;
  white-space: nowrap;
  text-align: start;
  border-bottom: 1px solid var(--rule);
  box-sizing: border-box;
}
.row {
  height: 29px;
}
.wait {
  color: var(--soft);
}
thead th {
  border-bottom: 0;
  box-shadow: inset 0 -1px var(--rule); /* a border would stay behind */
  position: sticky;
  top: 0;
  background: var(--card);
  z-index: 1;
}
.sort {
  font-weight: 600;
  text-decoration: none;
}
button {
  border: 0;
  padding: 0;
  background: none;
  color: inherit;
  font: inherit;
  text-decoration: underline;
  cursor: pointer;
}
</style>
