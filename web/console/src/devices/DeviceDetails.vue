<script setup lang="ts">
import type { Marker, StackedPlace } from '@idlebeacon/map'
import type { Devices } from '@idlebeacon/map/devices'
import Button from 'primevue/button'
import { computed, nextTick, onUnmounted, ref, shallowRef, watch } from 'vue'
import { changeDevice, devicePath, fetchDevice, fetchTrack, shareDevice, type Track, trackFile } from '../api/devices'
import { explain } from '../api/explain'
import Icon from '../parts/Icon.vue'
import { useNotices } from '../stores/notices'
import { useSession } from '../stores/session'
import { momentText } from '../text/format'
import Sparkline from './Sparkline.vue'
import { useFollowed } from './useFollowed'
import { useNow } from './useNow'
import { agoText, batteryOf, headingText, lengthText, spanText, speedText, stateText } from './words'

// The popup of a device, or a list to choose from if several share a spot.
const props = defineProps<{ marker: Marker; layer: Devices; following: string | null }>()
const emit = defineEmits<{ close: []; resized: []; follow: [device: string]; leave: [] }>()

const session = useSession()
const notices = useNotices()
const chosen = ref(props.marker.count === 1 ? props.marker.id : '')
const { value: device, problem } = useFollowed(
  () => (chosen.value ? devicePath(chosen.value) : null),
  (signal) => fetchDevice(chosen.value, signal),
)
const now = useNow()
const track = shallowRef<Track | null>(null) // of the last hour, drawn on the map
const trackProblem = ref<string | null>(null)
const listed = computed<readonly StackedPlace[]>(() => props.marker.stacked)

const age = computed(() => {
  const at = device.value?.position?.timestamp
  return at ? now.value - Date.parse(at) : null
})
const battery = computed(() => batteryOf(device.value?.position?.properties as Record<string, unknown> | undefined))
const told = computed(() =>
  Object.entries({ ...device.value?.properties, ...device.value?.position?.properties } as Record<
    string,
    unknown
  >).filter(([name]) => name !== 'battery'),
)
const speeds = computed(() => (track.value?.positions ?? []).map((p) => p.speed ?? 0))

async function showTrack(): Promise<void> {
  if (track.value) {
    track.value = props.layer.track = null
    props.layer.redraw()
    return
  }
  trackProblem.value = null
  try {
    const found = await fetchTrack(chosen.value, { since: '1h', limit: 5000 })
    track.value = found
    props.layer.track = {
      colour: device.value?.colour || '#0b6e99',
      lines: found.legs.map((leg) =>
        found.positions.slice(leg.from, leg.to + 1).map((p) => ({ lon: p.longitude, lat: p.latitude })),
      ),
    }
    props.layer.redraw()
  } catch (e) {
    trackProblem.value = explain(e)
  }
}
onUnmounted(() => {
  props.layer.track = null
  props.layer.redraw()
})

async function pause(): Promise<void> {
  const d = device.value
  if (!d) return
  try {
    await changeDevice(d.id, { paused: true })
    notices.done(`${d.name || d.id} does not share where it is any more.`)
    emit('close')
  } catch (e) {
    trackProblem.value = explain(e)
  }
}

const sharedFor = 4 // hours
const link = ref('')
async function share(): Promise<void> {
  try {
    link.value = (await shareDevice(chosen.value, sharedFor)).href ?? ''
    await navigator.clipboard.writeText(link.value).catch(() => undefined) // it can be copied by hand
  } catch (e) {
    trackProblem.value = explain(e)
  }
}

watch([device, track, trackProblem, problem, link], () => void nextTick(() => emit('resized')))
</script>

<template>
  <article class="details">
    <header>
      <h2 v-if="chosen" dir="auto">{{ device?.name || marker.name || chosen }}</h2>
      <h2 v-else>{{ marker.count }} devices at one spot</h2>
      <button type="button" aria-label="Close" @click="emit('close')"><Icon name="x" /></button>
    </header>
    <ul v-if="!chosen" class="choose">
      <li v-for="d in listed" :key="d.id">
        <button type="button" @click="chosen = d.id">{{ d.name || d.id }}, {{ d.category }}</button>
      </li>
    </ul>
    <p v-else-if="problem" role="alert">{{ problem }}</p>
    <template v-else-if="device">
      <p class="state" :class="device.state" :title="device.position && momentText(device.position.timestamp)">
        {{ stateText[device.state] }}<template v-if="age !== null">, heard {{ agoText(age) }}</template>
      </p>
      <dl>
        <template v-if="device.name"
          ><dt>Device</dt><dd>{{ device.id }}</dd></template
        >
        <template v-if="device.speed !== undefined"
          ><dt>Speed</dt><dd>{{ speedText(device.speed) }}</dd></template
        >
        <template v-if="device.heading !== undefined"
          ><dt>Heading</dt><dd>{{ headingText(device.heading) }}</dd></template
        >
        <template v-if="device.position?.accuracy !== undefined"
          ><dt>Within</dt><dd>{{ Math.round(device.position.accuracy) }} m</dd></template
        >
        <template v-if="battery !== null"
          ><dt>Battery</dt><dd><meter min="0" max="100" low="20" :value="battery" /> {{ battery }} %</dd></template
        >
        <template v-for="[name, value] in told" :key="name"
          ><dt>{{ name }}</dt
          ><dd dir="auto">{{ typeof value === 'object' ? JSON.stringify(value) : value }}</dd></template
        >
        <template v-if="device.clock_ahead"
          ><dt>Clock</dt
          ><dd
            >about {{ Math.abs(Math.round(device.clock_ahead)) }} s
            {{ device.clock_ahead > 0 ? 'ahead' : 'behind' }}</dd
          ></template
        >
      </dl>
      <p v-if="device.step === 'jump'" class="note">Nothing travels so fast from where it was before.</p>
      <p v-else-if="device.step === 'gap'" class="note">It said nothing for a while before this position.</p>
      <div v-if="track" class="track">
        <Sparkline :values="speeds" label="Speed in the last hour" />
        <p>
          Last hour: {{ lengthText(track.summary.distance) }}, moving for {{ spanText(track.summary.moving) }}, up to
          {{ speedText(track.summary.max_speed) }}.
        </p>
        <p class="files">
          Track as <a :href="trackFile(device.id, 'gpx', '1h')">GPX</a>,
          <a :href="trackFile(device.id, 'geojson', '1h')">GeoJSON</a>,
          <a :href="trackFile(device.id, 'csv', '1h')">CSV</a>
        </p>
      </div>
      <p v-if="trackProblem" role="alert">{{ trackProblem }}</p>
      <p v-if="link" class="note" role="status">
        Whoever has this link sees the device for {{ sharedFor }} hours:
        <input :value="link" readonly aria-label="Link" @focus="($event.target as HTMLInputElement).select()" />
      </p>
      <div class="actions">
        <Button
          v-if="following === device.id"
          label="Stop following"
          size="small"
          severity="secondary"
          @click="emit('leave')"
        />
        <Button v-else label="Follow" size="small" @click="emit('follow', device.id)" />
        <Button
          :label="track ? 'Hide track' : 'Track'"
          size="small"
          severity="secondary"
          :aria-pressed="track !== null"
          @click="showTrack"
        />
        <Button v-if="session.edits" label="Share" size="small" severity="secondary" @click="share" />
        <Button
          v-if="session.edits"
          label="Pause"
          title="Nobody sees where it is, and nothing is kept"
          size="small"
          severity="secondary"
          @click="pause"
        />
      </div>
    </template>
  </article>
</template>

<style scoped>
.details {
  width: 270px;
  padding: 0.7rem 0.8rem;
}
header {
  display: flex;
  justify-content: space-between;
  align-items: start;
  gap: 0.5rem;
}
h2 {
  font-size: 1rem;
  overflow-wrap: anywhere;
}
header button {
  border: 0;
  background: none;
  color: inherit;
  cursor: pointer;
}
.state {
  font-weight: 600;
  margin: 0.2rem 0 0.5rem;
}
.state.silent,
.state.paused {
  color: var(--soft);
}
dl {
  display: grid;
  grid-template-columns: auto 1fr;
  gap: 0.15rem 0.8rem;
  margin: 0;
}
dt {
  color: var(--soft);
}
dd {
  margin: 0;
  overflow-wrap: anywhere;
  font-variant-numeric: tabular-nums;
}
meter {
  width: 4.5rem;
  vertical-align: middle;
}
.note {
  margin-top: 0.4rem;
  color: var(--soft);
}
.note input {
  width: 100%;
}
.track {
  margin-top: 0.6rem;
}
.actions {
  display: flex;
  flex-wrap: wrap;
  gap: 0.4rem;
  margin-top: 0.7rem;
}
.choose {
  list-style: none;
  margin: 0.4rem 0 0;
  padding: 0;
}
.choose button {
  width: 100%;
  padding: 0.3rem 0;
  border: 0;
  background: none;
  color: var(--link, inherit);
  font: inherit;
  text-align: start;
  cursor: pointer;
}
</style>
