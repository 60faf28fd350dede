<script setup lang="ts">
import {
  around,
  type Box,
  type FeedState,
  type IdleMap,
  type MarkerSource,
  type Pick,
  type PlacedMarker,
  type View,
} from '@idlebeacon/map'
import Button from 'primevue/button'
import Message from 'primevue/message'
import { computed, onActivated, onMounted, ref, shallowRef, useTemplateRef, watch } from 'vue'
import { readAddress, viewParts, writeAddress } from './address'
import {
  type Chosen,
  type Collection,
  everything,
  fetchBackdrop,
  fetchMarkers,
  fetchOutline,
  fetchShapes,
} from './api/client'
import CollectionsPanel from './CollectionsPanel.vue'
import PlaceDetails from './PlaceDetails.vue'
import { askedBox } from './between'
import { useCollections } from './useCollections'
import { useStyles } from './useStyles'
import ViewReadout from './ViewReadout.vue'

defineOptions({ name: 'MapPage' })

const map = useTemplateRef<IdleMap>('map')
const address = readAddress()
const { collections, problem, refresh } = useCollections()
const off = ref<string[]>(address.off)
const chosen = ref(address.chosen)
const view = shallowRef<View | null>(null)
const inView = shallowRef<Box | null>(null)
const start = shallowRef<View | null>(null) // the view that the page began with
const feed = ref<FeedState>('loading')
const opened = shallowRef<PlacedMarker | null>(null) // what the popup shows
const panelOpen = ref(false) // on a narrow screen

const shown = computed(() => (collections.value ?? []).filter((c) => !off.value.includes(c.id)))
const styles = useStyles(collections)
const openedCollection = computed(() => collections.value?.find((c) => c.id === opened.value?.source))

const openedStyle = computed(() => styles.value.get(opened.value?.source ?? ''))

/** The smallest box that holds the data shown, or null where there is none. */
const dataBox = computed<Box | null>(() => {
  return around(
    shown.value.flatMap((c) =>
      (c.extent?.spatial.bbox ?? []).map(([west = 0, south = 0, east = 0, north = 0]) => ({
        west,
        south,
        east,
        north,
      })),
    ),
  )
})

// A source is made anew only when what it draws changes, so that an update of a count does not fetch all again.
const sources = new Map<string, { key: string; source: MarkerSource }>()
function sourceOf(c: Collection): MarkerSource[] {
  const styled = styles.value.get(c.id)
  if (!styled) return [] // soon
  const categories = c.categories.map((k) => k.category)
  const mine = chosen.value.get(c.id) ?? everything
  const key = JSON.stringify([categories, mine, c.shapes > 0, styled.style])
  const known = sources.get(c.id)
  if (known?.key === key) return [known.source]
  const source: MarkerSource = {
    id: c.id,
    looks: styled.looks,
    load: (box, zoom, signal) => fetchMarkers(c.id, box, zoom, mine, categories, signal),
    ...(c.shapes > 0 && {
      shapes: (box: Box, zoom: number, signal: AbortSignal) => fetchShapes(c.id, box, zoom, mine, categories, signal),
    }),
    outline: (marker, zoom, signal) => fetchOutline(c.id, marker, zoom, mine, categories, signal),
  }
  sources.set(c.id, { key, source })
  return [source]
}

watch([shown, map, chosen, styles], () => {
  if (map.value) map.value.sources = shown.value.flatMap(sourceOf)
})
let changes = ''
watch(collections, (now) => {
  if (!now || !map.value) return
  if (!start.value) begin()
  const seen = JSON.stringify(now.map((c) => [c.id, c.change]))
  if (changes && seen !== changes) map.value.refresh()
  changes = seen
})

/** The first look: what the address says, or the data. */
function begin(): void {
  if (!map.value) return
  if (address.view) map.value.view = address.view
  else if (dataBox.value) map.value.fit(dataBox.value, false)
  else return
  start.value = map.value.view
  writeAddress(start.value, off.value, chosen.value)
}

onMounted(async () => {
  if (address.view) begin()
  try {
    const backdrop = await fetchBackdrop()
    if (map.value) map.value.backdrop = backdrop
  } catch {
    // The map works without; whether the service answers is told elsewhere.
  }
})

// Coming back from another page.
onActivated(() => {
  const box = askedBox.value
  askedBox.value = null
  if (box) map.value?.fit(box, false)
  else if (view.value && start.value) writeAddress(view.value, off.value, chosen.value)
})

const onMove = (e: Event) => (view.value = (e as CustomEvent<View>).detail)
function onRest(e: Event): void {
  const rested = (e as CustomEvent<View>).detail
  inView.value = map.value?.bounds ?? null
  if (start.value) writeAddress(rested, off.value, chosen.value)
}
const onState = (e: Event) => (feed.value = (e as CustomEvent<FeedState>).detail)

function onPick(e: Event): void {
  const { placed } = (e as CustomEvent<Pick>).detail
  const { count, extent, opensAt } = placed.marker
  if (count > 1 && opensAt !== null && extent) {
    const east = extent.west > extent.east ? extent.east + 360 : extent.east
    map.value?.travelTo({
      centre: { lon: (extent.west + east) / 2, lat: (extent.south + extent.north) / 2 },
      zoom: opensAt,
    })
    return
  }
  opened.value = placed
  requestAnimationFrame(() => map.value?.showPopup(placed))
}

function toggle(ids: readonly string[], on: boolean): void {
  const others = off.value.filter((id) => !ids.includes(id))
  off.value = on ? others : [...others, ...ids]
  if (view.value && start.value) writeAddress(view.value, off.value, chosen.value)
}

function choose(id: string, what: Chosen): void {
  map.value?.hidePopup()
  const all = new Map(chosen.value)
  if (what.hidden.length === 0 && !what.name && !what.filter) all.delete(id)
  else all.set(id, what)
  chosen.value = all
  if (view.value && start.value) writeAddress(view.value, off.value, all)
}

const parts = computed(() => view.value && viewParts(view.value))
const outage = computed(() => problem.value ?? (feed.value === 'failed' ? 'The markers cannot be fetched.' : null))
watch(feed, (state, before) => {
  if (state === 'failed' || before === 'failed') void refresh() // see at once whether all of the service is gone
})
</script>

<template>
  <main>
    <aside :class="{ open: panelOpen }" aria-label="Data on the map">
      <CollectionsPanel
        :collections="collections"
        :off="off"
        :styles="styles"
        :chosen="chosen"
        :box="inView"
        @toggle="toggle"
        @choose="choose"
      />
    </aside>
    <div class="stage" :class="{ telling: opened }">
      <idle-map ref="map" @move="onMove" @rest="onRest" @state="onState" @pick="onPick" @popupclose="opened = null">
        <PlaceDetails
          v-if="opened && openedCollection && openedStyle"
          slot="popup"
          :placed="opened"
          :collection="openedCollection"
          :styled="openedStyle"
          :zoom="view?.zoom ?? 0"
          :chosen="chosen.get(opened.source) ?? everything"
          @close="map?.hidePopup()"
          @resized="map?.popupChanged()"
        />
      </idle-map>
      <div class="messages" aria-live="polite">
        <Message v-if="outage" severity="error" class="outage">
          {{ outage }} What is shown may be out of date; trying again.
        </Message>
        <Message v-else-if="collections && collections.length > 0 && shown.length === 0" severity="info"
          >All collections are switched off.</Message
        >
        <Message v-else-if="collections && shown.length > 0 && !dataBox" severity="info"
          >There are no places yet.</Message
        >
        <span v-else-if="feed === 'loading' && shown.length > 0" class="loading" role="status">Loading markers …</span>
      </div>
      <div class="controls" role="group" aria-label="Move the map">
        <Button
          icon="pi pi-plus"
          aria-label="Zoom in"
          title="Zoom in"
          severity="secondary"
          @click="view && map?.changeZoom(view.zoom + 1)"
        />
        <Button
          icon="pi pi-minus"
          aria-label="Zoom out"
          title="Zoom out"
          severity="secondary"
          @click="view && map?.changeZoom(view.zoom - 1)"
        />
        <Button
          icon="pi pi-expand"
          aria-label="Whole data"
          title="Whole data"
          severity="secondary"
          :disabled="!dataBox"
          @click="dataBox && map?.fit(dataBox)"
        />
        <Button
          icon="pi pi-undo"
          aria-label="Back to start"
          title="Back to start"
          severity="secondary"
          :disabled="!start"
          @click="start && map?.travelTo(start)"
        />
      </div>
      <Button
        class="panel-button"
        :icon="panelOpen ? 'pi pi-times' : 'pi pi-list'"
        :label="panelOpen ? 'Close' : 'Collections'"
        severity="secondary"
        :aria-expanded="panelOpen"
        @click="panelOpen = !panelOpen"
      />
      <ViewReadout v-if="parts" :parts="parts" />
    </div>
  </main>
</template>

<style scoped>
main {
  flex: 1;
  min-height: 0;
  display: flex;
  position: relative;
}
aside {
  width: 290px;
  flex: none;
  overflow: auto;
  background: var(--card);
  border-inline-end: 1px solid var(--rule);
}
.stage {
  flex: 1;
  min-width: 0;
  position: relative;
}
idle-map {
  position: absolute;
  inset: 0;
}
.controls {
  position: absolute;
  top: 12px;
  right: 12px;
  display: flex;
  flex-direction: column;
  gap: 6px;
}
.messages {
  position: absolute;
  top: 12px;
  left: 12px;
  right: 70px;
  display: flex;
  justify-content: center;
  pointer-events: none;
}
.messages > * {
  pointer-events: auto;
}
.outage {
  background: var(--card);
}
.loading {
  padding: 0.3rem 0.8rem;
  border-radius: 6px;
  background: var(--card);
  border: 1px solid var(--rule);
  animation: appear 0.2s 0.5s both; /* a short wait needs no word */
}
@keyframes appear {
  from {
    opacity: 0;
  }
}
.panel-button {
  display: none;
}
@media (max-width: 700px) {
  aside {
    display: none;
  }
  aside.open {
    display: block;
    position: absolute;
    z-index: 2;
    inset: auto 0 0 0;
    width: auto;
    border-inline-end: 0;
    height: 60%;
    border-top: 1px solid var(--rule);
  }
  .telling > .controls,
  .telling > .panel-button,
  .telling > .readout {
    display: none; /* the popup needs the room */
  }
  .panel-button {
    display: inline-flex;
    position: absolute;
    z-index: 3;
    left: 10px;
    bottom: 10px;
  }
  .panel-button[aria-expanded='true'] {
    left: auto;
    right: 22px;
    bottom: calc(60% - 2.9rem); /* beside the heading of the panel */
  }
}
</style>
