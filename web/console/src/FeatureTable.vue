<script setup lang="ts">
import type { Box } from '@idlebeacon/map'
import Button from 'primevue/button'
import InputText from 'primevue/inputtext'
import { computed, onUnmounted, ref, watch } from 'vue'
import { type Collection, fetchItems, type Item, ProblemError } from './api/client'

// The items of a collection, page after page, and those of them that meet a condition.
const props = defineProps<{ collection: Collection }>()
const emit = defineEmits<{ show: [box: Box] }>()

const pageSize = 100
const items = ref<Item[]>([])
const matched = ref(0)
const filter = ref('')
const problem = ref<string | null>(null)
const busy = ref(false)
let request = new AbortController()
let timer = 0

/** The properties of the first page, those that most items have first. */
const columns = computed(() => {
  const counts = new Map<string, number>()
  for (const item of items.value.slice(0, pageSize)) {
    for (const name of Object.keys(item.properties)) counts.set(name, (counts.get(name) ?? 0) + 1)
  }
  return [...counts].sort((a, b) => b[1] - a[1]).map(([name]) => name).slice(0, 12)
})

async function load(more: boolean): Promise<void> {
  request.abort()
  const mine = (request = new AbortController())
  busy.value = true
  try {
    const page = await fetchItems(props.collection.id, filter.value.trim(), more ? (items.value.at(-1)?.id ?? '') : '', pageSize, mine.signal)
    items.value = more ? [...items.value, ...page.items] : page.items
    matched.value = page.matched
    problem.value = null
  } catch (e) {
    if (mine.signal.aborted) return
    problem.value = e instanceof ProblemError ? e.message : 'The service does not answer.'
  }
  busy.value = false
}
watch(() => props.collection.change, () => void load(false), { immediate: true })
onUnmounted(() => {
  request.abort()
  clearTimeout(timer)
})
function typed(): void {
  clearTimeout(timer)
  timer = window.setTimeout(() => void load(false), 350)
}

function text(item: Item, name: string): string {
  const value = (item.properties as Record<string, unknown>)[name]
  return value === null || value === undefined ? '' : typeof value === 'object' ? JSON.stringify(value) : String(value)
}

/** A box a little around an item. */
function boxOf(item: Item): Box {
  const box: Box = { west: 180, south: 90, east: -180, north: -90 }
  const walk = (c: unknown): void => {
    if (!Array.isArray(c)) return
    const [lon, lat] = c as unknown[]
    if (typeof lon === 'number' && typeof lat === 'number') {
      Object.assign(box, { west: Math.min(box.west, lon), east: Math.max(box.east, lon), south: Math.min(box.south, lat), north: Math.max(box.north, lat) })
    } else c.forEach(walk)
  }
  const all = (g: Item['geometry']): void => (g.geometries ? g.geometries.forEach(all) : walk(g.coordinates))
  all(item.geometry)
  return box
}
</script>

<template>
  <div class="items">
    <label>
      Condition
      <InputText v-model="filter" size="small" placeholder="berths >= 4" spellcheck="false" :invalid="problem !== null" @input="typed" />
    </label>
    <span role="status">{{ matched.toLocaleString('en') }} {{ matched === 1 ? 'item' : 'items' }}</span>
    <p v-if="problem" role="alert" class="problem">{{ problem }}</p>
    <div class="scroll" tabindex="0" :aria-label="`Items of ${collection.title}`">
      <table>
        <thead>
          <tr>
            <th scope="col">id</th>
            <th scope="col">Geometry</th>
            <th v-for="c in columns" :key="c" scope="col">{{ c }}</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="item in items" :key="item.id">
            <th scope="row"><button type="button" title="Show on map" @click="emit('show', boxOf(item))">{{ item.id }}</button></th>
            <td>{{ item.geometry.type }}</td>
            <td v-for="c in columns" :key="c" dir="auto" :title="text(item, c)">{{ text(item, c) }}</td>
          </tr>
        </tbody>
      </table>
    </div>
    <Button v-if="items.length < matched" :label="`Show more (${(matched - items.length).toLocaleString('en')} left)`" size="small" text :loading="busy" @click="load(true)" />
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
}
thead th {
  position: sticky;
  top: 0;
  background: var(--card);
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
