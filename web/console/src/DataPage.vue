<script setup lang="ts">
import type { Box } from '@idlebeacon/map'
import Button from 'primevue/button'
import Message from 'primevue/message'
import { computed, ref } from 'vue'
import { useRouter } from 'vue-router'
import { type Collection, deleteCollection, ProblemError } from './api/client'
import ExportChoice from './ExportChoice.vue'
import FeatureTable from './FeatureTable.vue'
import ImportFlow from './ImportFlow.vue'
import ImportList from './ImportList.vue'
import { askedBox, askedItem } from './between'
import StyleEditor from './style/StyleEditor.vue'
import { useCollections } from './useCollections'

// The collections, what is in them, and how they are drawn.
const router = useRouter()
const { collections, problem, refresh } = useCollections()
const opened = ref<{ id: string; what: 'items' | 'style'; item?: string } | null>(null)
const deleting = ref<string | null>(null) // the collection that is asked about
const said = ref<string | null>(null)

// What another page asks for is opened when the page comes up.
if (askedItem.value) opened.value = { id: askedItem.value.collection, what: 'items', item: askedItem.value.id }
askedItem.value = null
const openedCollection = computed(() => collections.value?.find((c) => c.id === opened.value?.id))

function open(id: string, what: 'items' | 'style'): void {
  opened.value = opened.value?.id === id && opened.value.what === what ? null : { id, what }
}

function boxOf(c: Collection): Box | null {
  const [west, south, east, north] = c.extent?.spatial.bbox[0] ?? []
  return west === undefined || south === undefined || east === undefined || north === undefined
    ? null
    : { west, south, east, north }
}

function show(box: Box | null): void {
  askedBox.value = box
  void router.push('/')
}

const when = (text: string) => new Date(text).toLocaleString('en', { dateStyle: 'medium', timeStyle: 'short' })
const degrees = (v: number, positive: string, negative: string) =>
  `${Math.abs(v).toFixed(3)}° ${v < 0 ? negative : positive}`
const counted = (n: number, one: string, many: string) =>
  n === 0 ? [] : [`${n.toLocaleString('en')} ${n === 1 ? one : many}`]
function holds(c: Collection): string {
  const b = boxOf(c)
  if (!b) return 'nothing in it yet'
  const what = [...counted(c.places, 'place', 'places'), ...counted(c.shapes, 'shape', 'shapes')].join(', ')
  return `${what} · ${degrees(b.south, 'N', 'S')} to ${degrees(b.north, 'N', 'S')}, ${degrees(b.west, 'E', 'W')} to ${degrees(b.east, 'E', 'W')}`
}

async function remove(id: string): Promise<void> {
  try {
    await deleteCollection(id)
    said.value = null
  } catch (e) {
    said.value = e instanceof ProblemError ? e.message : 'The service does not answer.'
  }
  deleting.value = null
  if (opened.value?.id === id) opened.value = null
  await refresh()
}
</script>

<template>
  <main>
    <Message v-if="problem ?? said" severity="error">{{ problem ?? said }}</Message>
    <ImportFlow :collections="collections ?? []" @imported="refresh" @show="show" />
    <ImportList />
    <section aria-labelledby="data-title">
      <h2 id="data-title">Collections</h2>
      <p v-if="collections?.length === 0">There are none yet. Import a file to make the first.</p>
      <ul v-else class="list">
        <li v-for="c in collections ?? []" :id="`data-${c.id}`" :key="c.id">
          <div class="what">
            <b>{{ c.title }}</b> <code>{{ c.id }}</code>
            <p>
              {{ holds(c) }} <template v-if="c.changed_at">· changed {{ when(c.changed_at) }}</template>
            </p>
          </div>
          <div class="actions">
            <Button
              label="Show on map"
              icon="pi pi-map"
              size="small"
              severity="secondary"
              :disabled="!c.extent"
              @click="show(boxOf(c))"
            />
            <Button
              label="Items"
              icon="pi pi-table"
              size="small"
              severity="secondary"
              :aria-expanded="opened?.id === c.id && opened.what === 'items'"
              @click="open(c.id, 'items')"
            />
            <Button
              label="Style"
              icon="pi pi-palette"
              size="small"
              severity="secondary"
              :aria-expanded="opened?.id === c.id && opened.what === 'style'"
              @click="open(c.id, 'style')"
            />
            <ExportChoice class="export" :collection="c.id" label="Export as …" :name="`Export ${c.title}`" />
            <Button
              icon="pi pi-trash"
              size="small"
              severity="secondary"
              text
              :aria-label="`Delete ${c.title}`"
              :title="`Delete ${c.title}`"
              @click="deleting = c.id"
            />
          </div>
          <div v-if="deleting === c.id" class="ask" role="alertdialog" :aria-label="`Delete ${c.title}?`">
            Delete {{ c.title }} with all of its {{ c.count.toLocaleString('en') }} items?
            <Button label="Delete" size="small" severity="danger" @click="remove(c.id)" />
            <Button label="Keep it" size="small" severity="secondary" @click="deleting = null" />
          </div>
          <FeatureTable
            v-if="opened?.id === c.id && opened.what === 'items' && openedCollection"
            :collection="openedCollection"
            :item="opened.item"
            @show="show"
          />
          <StyleEditor
            v-if="opened?.id === c.id && opened.what === 'style' && openedCollection"
            :collection="openedCollection"
            @saved="refresh"
          />
        </li>
      </ul>
    </section>
  </main>
</template>

<style scoped>
main {
  flex: 1;
  min-height: 0;
  overflow: auto;
  padding: 1rem;
  display: flex;
  flex-direction: column;
  gap: 1rem;
}
main > * {
  width: 100%;
  max-width: 1180px;
  margin-inline: auto;
}
h2 {
  font-size: 1rem;
  margin-bottom: 0.5rem;
}
.list {
  list-style: none;
  margin: 0;
  padding: 0;
  display: flex;
  flex-direction: column;
  gap: 0.6rem;
}
li {
  display: flex;
  flex-wrap: wrap;
  align-items: center;
  gap: 0.5rem 1rem;
  padding: 0.7rem 1rem;
  border: 1px solid var(--rule);
  border-radius: 10px;
  background: var(--card);
}
.what {
  flex: 1 1 320px;
  min-width: 0;
  overflow-wrap: anywhere;
}
.what p {
  color: var(--soft);
  font-size: 0.88rem;
}
.actions {
  display: flex;
  flex-wrap: wrap;
  align-items: center;
  gap: 0.4rem;
}
.ask {
  flex-basis: 100%;
  display: flex;
  flex-wrap: wrap;
  align-items: center;
  gap: 0.6rem;
}
.export {
  width: 9rem;
}
</style>
