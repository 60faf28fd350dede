<script setup lang="ts">
import { type IdleMap, type Looks, type MarkerSource, type View } from '@idlebeacon/map'
import { computed, onMounted, useTemplateRef, watch } from 'vue'
import { type Collection, fetchBackdrop } from '../api/collections'
import { boxOf, everything } from '../api/selection'
import type { Legend, StyleDocument } from '../api/styles'
import { fetchDensity, fetchMarkers, fetchShapes } from '../api/view'
import LegendMark from '../parts/LegendMark.vue'
import PlaceDetails from '../popup/PlaceDetails.vue'
import { useMarkerPopup } from '../popup/useMarkerPopup'

// A small map that shows at once what is being made, with its legend and popups.
const props = defineProps<{
  collection: Collection
  draft: StyleDocument
  looks: Looks
  legend: Legend | null
  start: View | null // what the map shows first; the whole collection until that is known
}>()

const map = useTemplateRef<IdleMap>('map')
const { opened, pick, dismissed } = useMarkerPopup(map)
const categories = computed(() => props.collection.categories.map((k) => k.category))

function show(): void {
  if (!map.value) return
  const { collection, draft, looks } = props
  const shaded = (zoom: number) => draft.density !== undefined && zoom <= (draft.density.to ?? Infinity)
  const viewport = { collection: collection.id, chosen: everything, categories: categories.value, draft }
  const source: MarkerSource = {
    id: 'draft',
    looks,
    load: (box, zoom, signal) => (shaded(zoom) ? Promise.resolve([]) : fetchMarkers(viewport, box, zoom, signal)),
    densities: async (box, zoom, signal) => (shaded(zoom) ? [await fetchDensity(viewport, box, zoom, signal)] : []),
  }
  if (collection.shapes > 0) source.shapes = (box, zoom, signal) => fetchShapes(viewport, box, zoom, signal)
  map.value.hidePopup()
  map.value.sources = [source]
}
onMounted(async () => {
  const box = boxOf(props.collection.extent?.spatial.bbox[0])
  if (props.start && map.value) map.value.view = props.start
  else if (box) map.value?.fit(box, false)
  show()
  const land = await fetchBackdrop().catch(() => null) // the map is right without
  if (map.value && land) map.value.backdrop = land
})
watch(() => props.draft, show)
watch(
  () => props.start,
  (view) => {
    if (map.value && view) map.value.view = view
  },
)

const list = (names: readonly string[]) =>
  names.slice(0, 12).join(', ') + (names.length > 12 ? ` and ${names.length - 12} more` : '')
</script>

<template>
  <div class="tried">
    <idle-map ref="map" class="preview" @pick="pick($event.detail)" @dismiss="dismissed">
      <PlaceDetails
        v-if="opened"
        slot="popup"
        :picked="opened"
        :layers="[{ collection: collection.id, title: collection.title, chosen: everything, categories }]"
        :looks-of="() => looks"
        :zoom="map?.view.zoom ?? 0"
        :draft="draft"
        @close="map?.hidePopup()"
        @resized="map?.popupChanged()"
      />
    </idle-map>
    <template v-if="legend">
      <ul class="legend" aria-label="Legend of the draft">
        <li v-for="e in legend.entries" :key="e.kind + e.label"
          ><LegendMark :entry="e" :lines="collection.places === 0" /> {{ e.label }}</li
        >
      </ul>
      <p v-if="legend.unstyled.length > 0" role="status">Without a look of their own: {{ list(legend.unstyled) }}</p>
      <p v-if="legend.unused.length > 0" role="status">Without data: {{ list(legend.unused) }}</p>
    </template>
  </div>
</template>

<style scoped>
.tried {
  position: sticky;
  top: 0;
}
.tried p {
  font-size: 0.88rem;
  color: var(--soft);
}
.preview {
  display: block;
  height: 380px;
  border: 1px solid var(--rule);
  border-radius: 6px;
}
.legend {
  display: flex;
  flex-wrap: wrap;
  gap: 0.2rem 1rem;
  list-style: none;
  margin: 0.5rem 0;
  padding: 0;
  font-size: 0.88rem;
}
.legend li {
  display: flex;
  align-items: center;
  gap: 0.4rem;
}
@media (max-width: 760px) {
  .tried {
    position: static;
  }
}
</style>
