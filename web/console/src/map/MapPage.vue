<script setup lang="ts">
import {
  around,
  type Box,
  type Density,
  type FeedState,
  type IdleMap,
  Looks,
  type MarkerSource,
  type View,
} from '@idlebeacon/map'
import Button from 'primevue/button'
import { computed, defineAsyncComponent, onActivated, onMounted, ref, shallowRef, useTemplateRef, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { fetchBackdrop } from '../api/collections'
import { bboxOf, boxOf, type Chosen } from '../api/selection'
import Icon from '../parts/Icon.vue'
import { useMarkerPopup } from '../popup/useMarkerPopup'
import { useCollections } from '../stores/collections'
import { useNotices } from '../stores/notices'
import { useSession } from '../stores/session'
import { useStyles } from '../stores/styles'
import { readAddress, viewParts, writeAddress } from './address'
import CollectionsPanel from './CollectionsPanel.vue'
import MapControls from './MapControls.vue'
import { layersOf, sourceOf, useSources } from './useSources'
import ViewReadout from './ViewReadout.vue'

const EditTools = defineAsyncComponent(() => import('../edit/EditTools.vue')) // neither is this
const DeviceTools = defineAsyncComponent(() => import('../devices/DeviceTools.vue')) // nor this
const PlaceDetails = defineAsyncComponent(() => import('../popup/PlaceDetails.vue')) // not needed at first

defineOptions({ name: 'MapPage' })

const route = useRoute()
const router = useRouter()
const map = useTemplateRef<IdleMap>('map')
const address = readAddress(route.query)
const store = useCollections()
const styles = useStyles()
const sourcesOf = useSources()
const { opened, pick, dismissed } = useMarkerPopup(map)
const off = ref<string[]>(address.off)
const chosen = shallowRef<ReadonlyMap<string, Chosen>>(address.chosen)
const view = shallowRef<View | null>(null)
const inView = shallowRef<Box | null>(null)
const start = shallowRef<View | null>(null) // the view that the page began with
const feed = ref<FeedState>('loading')
const densities = shallowRef<readonly Density[]>([])
const panelOpen = ref(false) // on a narrow screen
const session = useSession()
const notices = useNotices()
const editing = shallowRef<{ collection: string; item: string | null } | null>(null) // what the form is about
const panel = ref<'select' | 'decide' | null>(null) // what else is open
const gathered = ref(localStorage.getItem('idlebeacon-waiting') !== null) // edits wait to be saved
const drafts = shallowRef<readonly MarkerSource[]>([]) // that the form shows
const devices = shallowRef<readonly MarkerSource[]>([])
const moving = ref<boolean | null>(null) // there are devices; null while that is not known
const located = ref(false) // one's own position was asked for

const shown = computed(() => (store.collections ?? []).filter((c) => !off.value.includes(c.id)))
const open = computed(() => (store.collections ?? []).filter(session.works)) // to be edited
const groups = computed(() => layersOf(shown.value, chosen.value, styles.styles))
const openedLayers = computed(() => groups.value.find((_, i) => sourceOf(i) === opened.value?.source) ?? [])
const plain = new Looks({})
const looksOf = (collection: string) => styles.styles.get(collection)?.looks ?? plain

/** The smallest box that holds the data shown, or null if there are none. */
const dataBox = computed<Box | null>(() =>
  around(shown.value.flatMap((c) => (c.extent?.spatial.bbox ?? []).flatMap((bbox) => boxOf(bbox) ?? []))),
)

watch([shown, map, chosen, () => styles.styles, drafts, devices], () => {
  if (map.value) map.value.sources = [...sourcesOf(shown.value, chosen.value), ...devices.value, ...drafts.value]
})

/** Opens the form: for an item, or for a new place in the first collection that is shown. */
function edit(collection = open.value.find((c) => shown.value.includes(c))?.id, item: string | null = null): void {
  map.value?.hidePopup()
  if (collection !== undefined) editing.value = { collection, item }
}
function leaveEditing(): void {
  editing.value = null
  panel.value = null
}
let changes = ''
watch(
  [() => store.collections, map],
  ([now]) => {
    if (!now || !map.value) return
    if (!start.value) begin()
    const seen = JSON.stringify(now.map((c) => [c.id, c.change]))
    if (changes && seen !== changes) map.value.refresh()
    changes = seen
  },
  { flush: 'post' },
)

/** The first look: what the address says, or the data. */
function begin(): void {
  if (!map.value) return
  const box = address.show ?? dataBox.value
  if (address.view) map.value.view = address.view
  else if (box) map.value.fit(box, false)
  else return
  start.value = map.value.view
  keepAddress()
}

onActivated(async () => {
  const answer = await fetch('/api/groups').catch(() => null) // the map is right without
  moving.value ||= answer?.ok === true && (await answer.text()).includes('"id"')
})

onMounted(async () => {
  if (address.view) begin()
  const backdrop = await fetchBackdrop().catch(() => null) // the map is right without
  if (map.value && backdrop) map.value.backdrop = backdrop
})

// Coming from another page or back to this one, or by a link to the map itself.
watch(
  () => route.fullPath,
  () => {
    if (route.name !== 'map') return
    const { show } = readAddress(route.query)
    if (show) map.value?.fit(show, false)
    keepAddress()
  },
  { flush: 'post' },
)

/** Keeps what is shown in the address. */
function keepAddress(): void {
  if (route.name !== 'map' || !map.value || !start.value) return
  const time = new URLSearchParams(window.location.search).get('time') // of a replay
  const query = { ...writeAddress(map.value.view, off.value, chosen.value), ...(time && { time }) }
  const { href } = router.resolve({ name: 'map', query })
  // Not by the router: to it this would be a navigation, and end one to another page that is under way.
  window.history.replaceState({ ...window.history.state, current: href }, '', href)
}
function onRest(): void {
  inView.value = map.value?.bounds ?? null
  if (inView.value) sessionStorage.setItem('idlebeacon-box', bboxOf(inView.value).join())
  keepAddress()
}

function toggle(ids: readonly string[], on: boolean): void {
  const others = off.value.filter((id) => !ids.includes(id))
  off.value = on ? others : [...others, ...ids]
  keepAddress()
}

function choose(id: string, what: Chosen): void {
  map.value?.hidePopup()
  const all = new Map(chosen.value)
  if (what.hidden.length === 0 && !what.name && !what.filter) all.delete(id)
  else all.set(id, what)
  chosen.value = all
  keepAddress()
}

/** Begins anew: the first view, and nothing laid over the data. */
function reset(): void {
  map.value?.hidePopup()
  map.value?.dispatchEvent(new Event('reset'))
  if (start.value) map.value?.travelTo(start.value)
}

const parts = computed(() => view.value && viewParts(view.value))
const outage = computed(() => store.problem ?? (feed.value === 'failed' ? 'The markers cannot be fetched.' : null))
function fed(state: FeedState): void {
  feed.value = state
  densities.value = map.value?.densities ?? []
}
watch(feed, (state, before) => {
  if (state === 'failed' || before === 'failed') void store.refresh() // see at once whether all of the service is gone
})
</script>

<template>
  <main>
    <h1 tabindex="-1" class="unseen">Map</h1>
    <aside :class="{ open: panelOpen }" aria-label="Data on the map">
      <CollectionsPanel
        :collections="store.collections"
        :off="off"
        :styles="styles.styles"
        :chosen="chosen"
        :box="inView"
        :densities="densities"
        @toggle="toggle"
        @choose="choose"
      />
      <DeviceTools v-if="map && (moving || located)" :map="map" :locate="located" @source="devices = $event" />
      <button v-else-if="moving === false" type="button" class="slim locate" @click="located = true"
        >My position</button
      >
    </aside>
    <div class="stage" :class="{ telling: opened, editing: editing ?? panel }">
      <idle-map
        ref="map"
        @travel="view = $event.detail"
        @rest="onRest"
        @state="fed($event.detail)"
        @pick="groups.some((_, i) => sourceOf(i) === $event.detail.source) && pick($event.detail)"
        @dismiss="dismissed"
      >
        <PlaceDetails
          v-if="opened"
          slot="popup"
          :picked="opened"
          :layers="openedLayers"
          :looks-of="looksOf"
          :zoom="view?.zoom ?? 0"
          @close="map?.hidePopup()"
          @resized="map?.popupChanged()"
          @gone="(name) => notices.done(`${name} is not there any more.`)"
          @edit="edit"
        />
      </idle-map>
      <div class="messages" aria-live="polite">
        <!-- Not a component that is loaded when it is needed: by then the service may have gone. -->
        <p v-if="outage" class="told outage" role="alert">
          {{ outage }} What is shown may be out of date; trying again.
        </p>
        <p v-else-if="store.collections && store.collections.length > 0 && shown.length === 0" class="told"
          >All collections are switched off.</p
        >
        <p v-else-if="store.collections && shown.length > 0 && !dataBox" class="told">There are no places yet.</p>
        <span v-else-if="feed === 'loading' && shown.length" class="loading" role="status">Loading markers …</span>
      </div>
      <EditTools
        v-if="map && (editing || panel || gathered)"
        :map="map"
        :collections="open"
        :target="editing"
        :panel="panel"
        @source="drafts = $event"
        @close="leaveEditing"
        @gather="gathered = true"
      />
      <template v-if="!editing && !panel">
        <Button
          v-if="open.some((c) => shown.includes(c))"
          class="add"
          :label="session.edits ? 'Add a place' : 'Suggest a place'"
          severity="secondary"
          @click="edit()"
        />
        <template v-if="session.edits">
          <Button class="add select" label="Select" severity="secondary" @click="panel = 'select'" />
          <Button class="add decide" label="Suggestions" severity="secondary" @click="panel = 'decide'" />
        </template>
      </template>
      <MapControls
        :data="dataBox !== null"
        :start="start !== null"
        @zoom="(by) => view && map?.changeZoom(view.zoom + by)"
        @data="dataBox && map?.fit(dataBox)"
        @start="reset"
      />
      <Button
        class="panel-button"
        :label="panelOpen ? 'Close' : 'Collections'"
        severity="secondary"
        :aria-expanded="panelOpen"
        @click="panelOpen = !panelOpen"
      >
        <template #icon><Icon :name="panelOpen ? 'x' : 'list'" /></template>
      </Button>
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
.locate {
  margin: 0.9rem;
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
.told {
  padding: 0.5rem 0.9rem;
  border: 1px solid var(--rule);
  border-radius: 6px;
  background: var(--card);
}
.outage {
  border-color: var(--signal);
  color: var(--signal);
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
.add {
  position: absolute;
  top: 12px;
  right: 64px;
}
.select {
  top: 56px;
}
.decide {
  top: 100px;
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
  .editing > idle-map {
    inset: 0 0 55% 0; /* the form is below */
  }
  .editing > .readout,
  .editing > .panel-button,
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
