<script setup lang="ts">
import type { IdleMap } from '@idlebeacon/map'
import { complete, Sketch } from '@idlebeacon/map/sketch'
import Button from 'primevue/button'
import Message from 'primevue/message'
import { computed, onMounted, onUnmounted, ref, shallowRef, watch } from 'vue'
import type { Collection } from '../api/collections'
import { explain } from '../api/explain'
import { fetchItems, type Item } from '../api/items'
import { written } from './fields'
import BulkBar from './BulkBar.vue'

// Chooses the items of a collection within an area that is drawn on the map, to change them as one.
const props = defineProps<{ map: IdleMap; collections: readonly Collection[] }>()
const emit = defineEmits<{ close: [] }>()

const most = 1000 // items
const collection = ref(props.collections[0]?.id ?? '')
const items = shallowRef<readonly Item[]>([])
const matched = ref(0)
const looked = ref(false)
const problem = ref<string | null>(null)
let sketch: Sketch | null = null
let request = new AbortController()

const chosen = computed(() => props.collections.find((c) => c.id === collection.value))
const names = computed(() => [...new Set(items.value.flatMap((i) => Object.keys(i.properties)))])

/** Looks which items are in what is drawn. */
async function look(): Promise<void> {
  request.abort()
  const { signal } = (request = new AbortController())
  const rings = (sketch?.shape.lines ?? []).filter((l) => complete('area', l))
  items.value = []
  matched.value = 0
  looked.value = rings.length > 0
  if (rings.length === 0) return
  const text = rings.map((r) => {
    const all = [...r, ...r.slice(0, 1)].map((p) => `${written(p.lon)} ${written(p.lat)}`)
    return `S_INTERSECTS(geometry, POLYGON((${all.join(', ')})))`
  })
  try {
    const found = await fetchItems(
      collection.value,
      { filter: text.join(' OR '), sort: '', offset: 0, limit: most },
      signal,
    )
    items.value = found.items
    matched.value = found.matched
    problem.value = null
  } catch (e) {
    if (!signal.aborted) problem.value = explain(e)
  }
}

function begin(): void {
  sketch?.remove()
  sketch = new Sketch(props.map, 'area')
  sketch.addEventListener('change', (e) => !e.detail.held && void look())
  sketch.addEventListener('choose', () => void 0)
}
onMounted(begin)
onUnmounted(() => {
  request.abort()
  sketch?.remove()
})
watch(collection, look)

function again(): void {
  begin()
  void look()
}
</script>

<template>
  <section class="edit spaced" aria-label="Choose items in an area">
    <h2>Choose items in an area</h2>
    <p class="soft">Click corners on the map around the items. Drag corners to change the area.</p>
    <label v-if="collections.length > 1"
      >Collection
      <select v-model="collection">
        <option v-for="c in collections" :key="c.id" :value="c.id">{{ c.title }}</option>
      </select>
    </label>
    <Message v-if="problem" severity="error" size="small">{{ problem }}</Message>
    <p v-if="matched > items.length" class="soft"
      >There are {{ matched.toLocaleString('en') }} items in it: more than can be changed as one. Draw a smaller
      area.</p
    >
    <BulkBar v-else-if="chosen && looked" :collection="chosen" :items="items" :names="names" @done="look" />
    <div class="ways">
      <Button label="Draw another" size="small" severity="secondary" @click="again" />
      <Button label="Close" size="small" severity="secondary" @click="emit('close')" />
    </div>
  </section>
</template>

<style scoped src="./EditPanel.css"></style>
