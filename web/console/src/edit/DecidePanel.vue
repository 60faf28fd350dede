<script setup lang="ts">
import { type IdleMap, Looks, type Marker, type MarkerSource, type Position, type Shape } from '@idlebeacon/map'
import type { Geometry } from 'geojson'
import Button from 'primevue/button'
import { nextTick, onMounted, onUnmounted, ref, useTemplateRef } from 'vue'
import type { Suggestion } from '../api/suggestions'
import SuggestionList from '../changes/SuggestionList.vue'
import { useCollections } from '../stores/collections'

// What is suggested, to be decided on beside the map, which shows where it is.
const props = defineProps<{ map: IdleMap }>()
const emit = defineEmits<{ close: []; source: [sources: MarkerSource[]] }>()

const store = useCollections()
const source = 'suggested'
const look = { icon: 'star', colour: '#b3261e', line: { width: 3, dash: 'dashed' as const } }
const looks = new Looks({ default: look, order: 1e6 })
const list = useTemplateRef<HTMLElement>('list')
const none = ref(false)

const pointOf = (g: Geometry | undefined): Position | null => {
  if (g?.type !== 'Point') return null
  const [lon = 0, lat = 0] = g.coordinates
  return { lon, lat }
}

/** What a suggestion is about, as the map draws it: a mark where it would be, and a line to there from where it is. */
function drawn(s: Suggestion): { markers: Marker[]; shapes: Shape[] } {
  const [was, is] = [s.now?.geometry as Geometry | undefined, (s.would ?? s.now)?.geometry as Geometry | undefined]
  const called = (s.now ?? s.would)?.properties[store.find(s.collection)?.name_property ?? '']
  const said = typeof called === 'string' && called ? called : s.item || 'an item'
  const name = `Suggestion: ${{ create: 'add', delete: 'take out' }[s.op as string] ?? 'change'} ${said}`
  const about = { id: s.id, name, category: '', drawing: {} }
  const [from, at] = [pointOf(was), pointOf(is)]
  if (!at) return { markers: [], shapes: is ? [{ ...about, geometry: is }] : [] }
  const alone = { count: 1, tally: [], opensAt: null, extent: null, stacked: [] }
  const moved = from && (from.lon !== at.lon || from.lat !== at.lat)
  const way: Geometry = { type: 'LineString', coordinates: [from ?? at, at].map((p) => [p.lon, p.lat]) }
  return {
    markers: [{ ...about, ...alone, key: s.id, kind: 'place', at }],
    shapes: moved ? [{ ...about, geometry: way }] : [],
  }
}

function show(all: readonly Suggestion[]): void {
  none.value = all.length === 0
  const parts = all.map(drawn)
  const marks: MarkerSource = {
    id: source,
    looks,
    load: () => Promise.resolve(parts.flatMap((p) => p.markers)),
    shapes: () => Promise.resolve(parts.flatMap((p) => p.shapes)),
    current: () => true,
  }
  emit('source', [marks])
}

const listening = new AbortController()
onMounted(() =>
  props.map.addEventListener(
    'pick',
    ({ detail }) => {
      if (detail.source !== source) return
      const card = list.value?.querySelector(`[data-suggestion="${CSS.escape(detail.marker.id)}"]`)
      card?.scrollIntoView({ block: 'nearest' })
      void nextTick(() => card?.querySelector<HTMLElement>('input, button')?.focus())
    },
    { signal: listening.signal },
  ),
)
onUnmounted(() => {
  listening.abort()
  emit('source', [])
})
</script>

<template>
  <section ref="list" class="edit spaced" aria-label="Suggestions">
    <SuggestionList collection="" @listed="show" />
    <p v-if="none">Nothing is suggested that waits to be decided on.</p>
    <div class="ways"><Button label="Close" size="small" severity="secondary" @click="emit('close')" /></div>
  </section>
</template>

<style scoped src="./EditPanel.css"></style>
