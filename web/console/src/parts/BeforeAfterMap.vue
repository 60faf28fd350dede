<script setup lang="ts">
import { around, type Box, type IdleMap, Looks, type Marker, type MarkerSource, type Shape } from '@idlebeacon/map'
import type { Geometry, Position as Coordinates } from 'geojson'
import { computed, onMounted, onUnmounted, ref, useTemplateRef, watch } from 'vue'
import { fetchBackdrop } from '../api/collections'

// Where an item was and is, on a small map: what was in grey, what is in red.
const props = defineProps<{ was?: Geometry | undefined; is?: Geometry | undefined; label: string }>()

const map = useTemplateRef<IdleMap>('map')
const frame = useTemplateRef<HTMLElement>('frame')
const seen = ref(false) // it is drawn once it comes into sight
const watching = new IntersectionObserver((entries) => (seen.value ||= entries.some((e) => e.isIntersecting)))
onMounted(() => frame.value && watching.observe(frame.value))
onUnmounted(() => watching.disconnect())

const looks = {
  was: new Looks({ default: { icon: 'circle', colour: '#5b6f7a' }, order: 2 }),
  is: new Looks({ default: { icon: 'star', colour: '#b3261e' }, order: 1 }),
}

/** What shows one of the two. */
function sourceOf(id: 'was' | 'is', geometry: Geometry | undefined): MarkerSource {
  const about = { id, name: id === 'was' ? 'Before' : 'After', category: '', drawing: {} }
  const markers: Marker[] = []
  const shapes: Shape[] = []
  if (geometry?.type === 'Point') {
    const [lon = 0, lat = 0] = geometry.coordinates
    const alone = { count: 1, tally: [], opensAt: null, extent: null, stacked: [] }
    markers.push({ ...about, ...alone, key: id, kind: 'place', at: { lon, lat } })
  } else if (geometry) shapes.push({ ...about, geometry })
  return {
    id,
    looks: looks[id],
    load: () => Promise.resolve(markers),
    shapes: () => Promise.resolve(shapes),
    current: () => true,
  }
}

/** The box that holds all positions of a geometry. */
function boxOf(g: Geometry | undefined): Box[] {
  const boxes: Box[] = []
  const take = (c: Coordinates | Coordinates[] | Coordinates[][] | Coordinates[][][]): void => {
    const [lon, lat] = c
    if (typeof lon === 'number' && typeof lat === 'number') boxes.push({ west: lon, east: lon, south: lat, north: lat })
    else for (const part of c as Coordinates[]) take(part)
  }
  if (g && g.type !== 'GeometryCollection') take(g.coordinates)
  const all = around(boxes)
  return all ? [all] : []
}
const box = computed(() => around([...boxOf(props.was), ...boxOf(props.is)]))

watch(
  [map, box],
  async ([now, box]) => {
    if (!now || !box) return
    now.words = { map: props.label }
    now.sources = [sourceOf('was', props.was), sourceOf('is', props.is)]
    const width = (box.east - box.west + 360) % 360 // it may cross the antimeridian
    const middle = { lon: ((box.west + width / 2 + 540) % 360) - 180, lat: (box.north + box.south) / 2 }
    const apart = Math.hypot(width * Math.cos((middle.lat * Math.PI) / 180), box.north - box.south) / 360
    const zoom = Math.min(20, Math.log2(80 / 256 / apart))
    // What is near each other is to be told apart: it is shown larger than a box that is fitted.
    if (apart > 0 && zoom > 16) now.view = { centre: middle, zoom }
    else now.fit(box, false)
    const backdrop = await fetchBackdrop().catch(() => null) // the map is right without
    if (backdrop) now.backdrop = backdrop
  },
  { flush: 'post' },
)
</script>

<template>
  <div v-if="box" ref="frame" class="frame"><idle-map v-if="seen" ref="map" /></div>
</template>

<style scoped>
.frame {
  width: 240px;
  height: 160px;
  flex: none;
  border: 1px solid var(--rule);
  border-radius: 6px;
  overflow: hidden;
}
idle-map {
  width: 100%;
  height: 100%;
  min-height: 0;
}
</style>
