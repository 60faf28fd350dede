<script setup lang="ts">
import type { IdleMap, Marker, MarkerSource } from '@idlebeacon/map'
import { Looks } from '@idlebeacon/map'
import { Devices } from '@idlebeacon/map/devices'
import { onMounted, onScopeDispose, ref, shallowRef } from 'vue'
import { reportPosition } from '../api/devices'
import { explain } from '../api/explain'
import { reasons, whyNever } from '../edit/ownPosition'
import { useSession } from '../stores/session'

// One's own position on the map, with its accuracy and heading, reported as a device if one wants.
const props = defineProps<{ map: IdleMap; atOnce?: boolean }>()
const emit = defineEmits<{ source: [sources: MarkerSource[]] }>()

const id = 'own position'
const session = useSession()
const on = ref(false)
const told = ref('') // what is to be said of it
const device = ref('') // the id to report as; '' for none
const asking = ref(false)
const latest = shallowRef<GeolocationPosition | null>(null)
const layer = new Devices()
layer.circles = true
layer.trails = false
let watching = 0

function start(): void {
  told.value = whyNever()
  if (told.value) return
  on.value = true
  told.value = 'Finding your position …'
  const source: MarkerSource = {
    id,
    looks: new Looks({ default: { colour: '#1d4ed8' } }),
    layer,
    load: () => Promise.resolve(markers()),
    current: () => true,
  }
  emit('source', [source])
  watching = navigator.geolocation.watchPosition(
    (p) => void here(p),
    (e) => (told.value = reasons[e.code] ?? e.message),
    { enableHighAccuracy: true, timeout: 20_000, maximumAge: 5000 },
  )
}

function stop(): void {
  if (!on.value) return
  on.value = false
  navigator.geolocation.clearWatch(watching)
  latest.value = null
  told.value = device.value = ''
  emit('source', [])
}
onScopeDispose(() => {
  if (on.value) navigator.geolocation.clearWatch(watching)
  layer.stop()
})
onMounted(() => props.atOnce && start())
defineExpose({ stop })

async function here(p: GeolocationPosition): Promise<void> {
  const first = latest.value === null
  latest.value = p
  told.value = `Within ${Math.round(p.coords.accuracy)} m.`
  props.map.patch(id, { markers: markers() })
  if (first)
    props.map.travelTo({
      centre: { lon: p.coords.longitude, lat: p.coords.latitude },
      zoom: Math.max(props.map.view.zoom, 13),
    })
  if (!device.value) return
  try {
    await reportPosition(device.value, p)
    told.value += ` Shared as ${device.value}.`
  } catch (e) {
    told.value = `Your position is not shared: ${explain(e)}`
  }
}

function markers(): Marker[] {
  const p = latest.value
  if (!p) return []
  const { longitude: lon, latitude: lat, heading, speed, accuracy } = p.coords
  const moving = (speed ?? 0) > 0.5 && heading !== null && !Number.isNaN(heading)
  return [
    {
      key: 'device me',
      kind: 'device',
      at: { lon, lat },
      id: 'me',
      name: 'You',
      category: moving ? 'moving' : 'still',
      drawing: {},
      count: 1,
      tally: [],
      opensAt: null,
      extent: null,
      stacked: [],
      device: { time: p.timestamp, state: moving ? 'moving' : 'still', accuracy, ...(moving && { heading }) },
    },
  ]
}

function share(e: Event): void {
  const given = new FormData(e.target as HTMLFormElement).get('device')
  device.value = typeof given === 'string' ? given.trim() : ''
  asking.value = false
  if (latest.value) void here(latest.value)
}
</script>

<template>
  <div class="own">
    <button type="button" class="slim" :aria-pressed="on" @click="on ? stop() : start()">
      {{ on ? 'Hide my position' : 'My position' }}
    </button>
    <template v-if="latest && (session.owner || session.session?.role === 'device')">
      <button v-if="device" type="button" class="slim" @click="device = ''">Stop sharing</button>
      <button v-else-if="!asking" type="button" class="slim" @click="asking = true">Share it as a device</button>
      <form v-else @submit.prevent="share">
        <input name="device" class="slim" required placeholder="Id of the device" aria-label="Id of the device" />
        <button class="slim">Share</button>
      </form>
    </template>
    <p v-if="told" role="status">{{ told }}</p>
  </div>
</template>

<style scoped>
.own {
  display: flex;
  flex-wrap: wrap;
  gap: 0.4rem;
  margin-top: 0.4rem;
}
form {
  display: flex;
  gap: 0.4rem;
}
input {
  width: 9rem;
  cursor: text;
}
p {
  flex-basis: 100%;
  color: var(--soft);
}
</style>
