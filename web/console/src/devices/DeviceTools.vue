<script setup lang="ts">
import type { IdleMap, Marker, MarkerSource, Picked, Position } from '@idlebeacon/map'
import { Looks } from '@idlebeacon/map'
import { Devices } from '@idlebeacon/map/devices'
import ToggleSwitch from 'primevue/toggleswitch'
import { computed, defineAsyncComponent, nextTick, onScopeDispose, ref, shallowRef, useTemplateRef, watch } from 'vue'
import { RouterLink, useRoute } from 'vue-router'
import {
  fetchDevice,
  fetchDeviceMarkers,
  fetchGroups,
  type Group,
  groupsPath,
  keyOf,
  markersPath,
} from '../api/devices'
import { follow, isLive } from '../api/live'
import type { Noticed } from '../api/watches'
import { useNotices } from '../stores/notices'
import { useSession } from '../stores/session'
import { counted } from '../text/format'
import DeviceDetails from './DeviceDetails.vue'
import OwnPosition from './OwnPosition.vue'
import ReplayBar from './ReplayBar.vue'
import { stateText } from './words'
import { useFollowed } from './useFollowed'

const WatchTools = defineAsyncComponent(() => import('../watches/WatchTools.vue')) // seldom needed at once

// The devices on the map page: switches for their groups, their popup, and following one.
const props = defineProps<{ map: IdleMap; locate?: boolean }>()
const emit = defineEmits<{ source: [sources: MarkerSource[]] }>()
const own = useTemplateRef('own')
const mine = shallowRef<MarkerSource[]>([]) // one's own position
const theirs = shallowRef<MarkerSource[]>([])
const watched = shallowRef<MarkerSource[]>([]) // where watches watch
watch([mine, theirs, watched], () => emit('source', [...watched.value, ...theirs.value, ...mine.value]))

const id = 'devices'
const route = useRoute()
const notices = useNotices()
const session = useSession()
const { value: groups } = useFollowed(() => groupsPath, fetchGroups)
const off = ref(new Set((localStorage.getItem('idlebeacon-groups-off') ?? '').split(',').filter(Boolean)))
const shown = computed(() => (groups.value ?? []).filter((g) => !off.value.has(g.id)))
const opened = shallowRef<Marker | null>(null) // what the popup is about
const following = ref<string | null>(null) // the id of a device
const layer = new Devices()
onScopeDispose(() => layer.stop())

layer.silentAfter = (group) => (groups.value?.find((g) => g.id === group)?.settings.silent_after ?? 300) * 1000

function toggle(group: string, on: boolean): void {
  const next = new Set(off.value)
  if (on) next.delete(group)
  else next.add(group)
  off.value = next
  localStorage.setItem('idlebeacon-groups-off', [...next].join(','))
}

// The source is made anew only when what it draws changes, and not whenever a device has moved.
const replayed = ref<number | null>(momentOf(route.query.time)) // where the replay begins, in ms
const replaying = ref(replayed.value !== null)
let frame: Marker[] = [] // of the replay

function momentOf(text: unknown): number | null {
  const at = typeof text === 'string' ? Date.parse(text) : NaN
  return Number.isFinite(at) ? at : null
}
function endReplay(): void {
  frame = []
  replaying.value = false
  replayed.value = null
}

watch(
  () => JSON.stringify([replaying.value, shown.value.map((g) => [g.id, g.title, g.colour])]),
  () => {
    const now = shown.value
    if (now.length === 0) {
      theirs.value = []
      return
    }
    const source: MarkerSource = {
      id,
      looks: new Looks({}),
      layers: new Map(now.map((g) => [g.id, new Looks({ default: { colour: g.colour || '#0b6e99' } })])),
      layer,
      ...(replaying.value ? { load: () => Promise.resolve(frame), current: () => true } : live(now)),
    }
    theirs.value = [source]
  },
  { immediate: true },
)

/** What keeps devices of groups up to date. */
function live(now: readonly Group[]): Pick<MarkerSource, 'load' | 'follow' | 'current'> {
  return {
    load: (box, zoom, signal) => fetchDeviceMarkers(now, box, zoom, signal),
    follow: (box, zoom, changed, signal) =>
      follow(
        markersPath(
          now.map((g) => g.id),
          box,
          zoom,
        ),
        changed,
        signal,
      ),
    current: isLive,
  }
}

const abort = new AbortController()
onScopeDispose(() => abort.abort())
const { signal } = abort
props.map.addEventListener(
  'pick',
  ({ detail }) => {
    if (detail.source === id) pick(detail)
    else opened.value = null
  },
  { signal },
)
props.map.addEventListener('dismiss', () => (opened.value = null), { signal })

function pick(picked: Picked): void {
  const { count, extent, opensAt } = picked.marker
  if (count > 1 && opensAt !== null && extent) {
    const east = extent.west > extent.east ? extent.east + 360 : extent.east
    props.map.travelTo({
      centre: { lon: (extent.west + east) / 2, lat: (extent.south + extent.north) / 2 },
      zoom: opensAt,
    })
    return
  }
  opened.value = picked.marker
  void nextTick(() => props.map.showPopup(picked))
}

// Following keeps a device in the middle until the map is moved by hand.
const stopFollowing = () => (following.value = layer.following = null)
const flight = 1500 // ms, until the map has come to a device
function followDevice(device: string): void {
  following.value = device
  const zoom = Math.max(props.map.view.zoom, 14)
  let begun = false
  let arrived = false
  const go = (centre: Position) => {
    if (!begun) {
      begun = true
      props.map.travelTo({ centre, zoom })
      window.setTimeout(() => {
        arrived = true
        layer.tellFollower() // it may have gone on meanwhile
      }, flight)
    } else if (arrived) props.map.view = { centre, zoom: props.map.view.zoom }
  }
  layer.following = {
    key: keyOf('device', device),
    told: (at) => go({ lon: at.x * 360 - 180, lat: Math.atan(Math.sinh(Math.PI * (1 - 2 * at.y))) * (180 / Math.PI) }),
  }
  layer.tellFollower()
  void fetchDevice(device).then((d) => {
    if (following.value === device && d.position && !begun) go({ lon: d.position.longitude, lat: d.position.latitude })
  })
}
let pressed: { x: number; y: number } | null = null
props.map.addEventListener('pointerdown', (e) => (pressed = { x: (e as PointerEvent).x, y: (e as PointerEvent).y }), {
  signal,
})
props.map.addEventListener(
  'pointermove',
  (e) => {
    const { x, y, buttons } = e as PointerEvent
    if (pressed && buttons && Math.hypot(x - pressed.x, y - pressed.y) > 4) stopFollowing()
  },
  { signal },
)
props.map.addEventListener('keydown', (e) => (e as KeyboardEvent).key.startsWith('Arrow') && stopFollowing(), {
  signal,
})

// All that was laid over the devices is cleared at once.
props.map.addEventListener(
  'reset',
  () => {
    stopFollowing()
    endReplay()
    layer.track = null
    own.value?.stop()
  },
  { signal },
)

/** Shows where something was noticed. */
function showNotice(n: Noticed): void {
  stopFollowing()
  props.map.travelTo({
    centre: { lon: n.longitude, lat: n.latitude },
    zoom: Math.max(props.map.view.zoom, 14),
  })
}

/** Goes to a device that an address names. */
watch(
  () => (route.name === 'map' ? route.query.device : undefined),
  async (named) => {
    const device = [named ?? []].flat()[0]
    if (!device) return
    try {
      const d = await fetchDevice(device)
      if (!d.position) {
        notices.done(`It is not known where ${d.name || d.id} is.`)
        return
      }
      if (off.value.has(d.group)) toggle(d.group, true)
      followDevice(device)
    } catch {
      notices.done(`There is no device ${device}.`)
    }
  },
  { immediate: true },
)

const states = (devices: Record<string, number>) =>
  ['moving', 'still', 'silent'].filter((s) => devices[s]).map((s) => `${devices[s]} ${stateText[s]?.toLowerCase()}`)
const sum = (devices: Record<string, number>) => Object.values(devices).reduce((a, b) => a + b, 0)
const name = computed(() => following.value)
</script>

<template>
  <section v-if="groups?.length || locate" :aria-labelledby="groups?.length ? 'devices-title' : undefined">
    <h2 v-if="groups?.length" id="devices-title">
      Devices <RouterLink :to="{ name: 'devices' }">All in a list</RouterLink>
    </h2>
    <ul v-if="groups?.length">
      <li v-for="g in groups" :key="g.id" :class="{ dim: off.has(g.id) }">
        <label :for="`group-${g.id}`">
          <span class="title"
            ><span class="dot" :style="{ background: g.colour || '#0b6e99' }" />{{ g.title || g.id }}</span
          >
          <span class="count">{{ states(g.devices).join(', ') || counted(sum(g.devices), 'device', 'devices') }}</span>
        </label>
        <ToggleSwitch
          :input-id="`group-${g.id}`"
          :model-value="!off.has(g.id)"
          @update:model-value="(on: boolean) => toggle(g.id, on)"
        />
      </li>
    </ul>
    <button
      v-if="groups?.length"
      type="button"
      class="slim again"
      :aria-pressed="replaying"
      @click="replaying ? endReplay() : (replaying = true)"
    >
      {{ replaying ? 'Back to now' : 'Replay' }}
    </button>
    <OwnPosition ref="own" :map="map" :at-once="locate" @source="mine = $event" />
  </section>
  <WatchTools
    v-if="groups && groups.length > 0 && session.reads"
    :map="map"
    :groups="shown"
    @source="watched = $event"
    @show="showNotice"
  />
  <Teleport :to="map.parentElement">
    <ReplayBar
      v-if="replaying && shown.length > 0"
      :key="shown.map((g) => g.id).join()"
      :map="map"
      :layer="layer"
      :groups="shown"
      :source="id"
      :at="replayed"
      @frame="frame = $event"
      @close="endReplay"
    />
    <p v-if="name" class="following" role="status">
      Following {{ name }}
      <button type="button" class="slim" @click="stopFollowing">Stop</button>
    </p>
  </Teleport>
  <Teleport :to="map">
    <DeviceDetails
      v-if="opened"
      :key="opened.key"
      slot="popup"
      :marker="opened"
      :layer="layer"
      :following="following"
      @close="map.hidePopup()"
      @resized="map.popupChanged()"
      @follow="followDevice"
      @leave="stopFollowing"
    />
  </Teleport>
</template>

<style scoped>
section {
  padding: 0.9rem;
  border-top: 1px solid var(--rule);
}
h2 {
  display: flex;
  justify-content: space-between;
  align-items: baseline;
  font-size: 0.95rem;
  margin-bottom: 0.6rem;
}
h2 a {
  font-size: 0.88rem;
  font-weight: 400;
}
ul {
  list-style: none;
  margin: 0;
  padding: 0;
}
li {
  display: grid;
  grid-template-columns: 1fr auto;
  gap: 0.2rem 0.8rem;
  align-items: center;
  padding: 0.6rem 0;
  border-top: 1px solid var(--rule);
}
label {
  cursor: pointer;
  min-width: 0;
}
.title {
  display: block;
  font-weight: 600;
  overflow-wrap: anywhere;
}
.dot {
  display: inline-block;
  width: 0.7em;
  height: 0.7em;
  margin-inline-end: 0.45em;
  border-radius: 50%;
}
.count {
  color: var(--soft);
  font-variant-numeric: tabular-nums;
}
.dim .title {
  color: var(--soft);
}
.again {
  margin-top: 0.4rem;
}
.following {
  position: absolute;
  z-index: 1;
  top: 12px;
  left: 50%;
  transform: translateX(-50%);
  display: flex;
  align-items: center;
  gap: 0.7rem;
  padding: 0.35rem 0.5rem 0.35rem 0.9rem;
  border: 1px solid var(--rule);
  border-radius: 6px;
  background: var(--card);
}
</style>
