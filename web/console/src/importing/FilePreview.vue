<script setup lang="ts">
import { type IdleMap, Looks, type Marker, type Shape, type Style } from '@idlebeacon/map'
import { onMounted, useTemplateRef, watch } from 'vue'
import { fetchBackdrop } from '../api/collections'
import type { Inspection } from '../api/imports'
import { extentOf } from '../parts/extent'

// The first rows of a file on a small map.
const props = defineProps<{ found: Inspection; nameProperty: string; categoryProperty: string }>()
const map = useTemplateRef<IdleMap>('map')

function show(): void {
  if (!map.value) return
  const { features } = props.found
  const markers: Marker[] = []
  const shapes: Shape[] = []
  features.forEach((f, i) => {
    const text = (name: string) => (name ? String((f.properties as Record<string, unknown>)[name] ?? '') : '')
    const id = String(i)
    const name = text(props.nameProperty) || f.id || `row ${i + 1}`
    const category = text(props.categoryProperty)
    if (f.geometry.type === 'Point') markers.push(markerAt(f.geometry.coordinates as number[], id, name, category))
    else shapes.push({ id, name, category, drawing: {}, geometry: f.geometry as GeoJSON.Geometry })
  })
  map.value.sources = [
    {
      id: 'preview',
      looks: new Looks(props.found.style as Style),
      load: () => Promise.resolve(markers),
      shapes: () => Promise.resolve(shapes),
    },
  ]
  const box = extentOf(features.map((f) => f.geometry))
  if (box) map.value.fit(box, false)
}

function markerAt([lon = 0, lat = 0]: number[], id: string, name: string, category: string): Marker {
  const none = { drawing: {}, count: 1, tally: [], opensAt: null, extent: null, stacked: [] }
  return { key: id, kind: 'place', at: { lon, lat }, id, name, category, ...none }
}

watch([() => props.found, () => props.nameProperty], show)
onMounted(async () => {
  show()
  const land = await fetchBackdrop().catch(() => null) // the map is right without
  if (map.value && land) map.value.backdrop = land
})
</script>

<template>
  <idle-map ref="map" class="preview" />
</template>

<style scoped>
.preview {
  height: 240px;
  border: 1px solid var(--rule);
  border-radius: 6px;
}
</style>
