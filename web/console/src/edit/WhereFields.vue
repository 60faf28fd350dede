<script setup lang="ts">
import type { IdleMap, Position } from '@idlebeacon/map'
import Button from 'primevue/button'
import InputText from 'primevue/inputtext'
import Message from 'primevue/message'
import { onUnmounted, ref, watch } from 'vue'
import { readDegrees, readPosition, within } from './coordinates'
import { written } from './fields'
import { ownPosition } from './ownPosition'

// Where a place is: typed or pasted, at the middle of the map, where the device is, or moved by metres.
const props = defineProps<{ map: IdleMap; at: Position; bbox: readonly number[] | undefined }>() // bbox: of the others
const emit = defineEmits<{ place: [at: Position] }>()

const lat = ref('')
const lon = ref('')
const problem = ref<string | null>(null)
const remark = ref<string | null>(null)
const either = ref<readonly [Position, Position] | null>(null) // what was pasted may be one or the other
const asking = ref(false) // the device
const aiming = ref(false) // the place goes with the middle of the map
let listening = new AbortController()

watch(
  () => props.at,
  (now) => {
    lat.value = written(now.lat)
    lon.value = written(now.lon)
  },
  { immediate: true },
)

function put(at: Position): void {
  problem.value = remark.value = either.value = null
  emit('place', at)
}

/** What is typed, or pasted into either field. */
function typed(text: string): void {
  problem.value = remark.value = either.value = null
  const one = { lat: readDegrees(lat.value), lon: readDegrees(lon.value) }
  if (one.lat !== null && one.lon !== null) {
    if (Math.abs(one.lat) <= 90 && Math.abs(one.lon) <= 180) put({ lat: one.lat, lon: one.lon })
    else problem.value = 'The latitude is from -90 to 90 degrees, the longitude from -180 to 180.'
    return
  }
  const found = readPosition(text)
  if (!found) problem.value = 'This is no position. Paste one such as -38.5, -22.1 or 38°30′S 22°6′W.'
  else if ('at' in found) put(found.at)
  else {
    const likely = within(found.either, props.bbox)
    if (likely) {
      put(likely)
      const [a, b] = found.either
      const read = `latitude ${written(likely.lat)}, longitude ${written(likely.lon)}`
      remark.value = `Read as ${read}: the other way round it is far away.`
      if (a === b) remark.value = null
    } else either.value = found.either
  }
}

function aim(on: boolean): void {
  aiming.value = on
  listening.abort()
  listening = new AbortController()
  if (!on) return
  put(props.map.view.centre)
  props.map.addEventListener('travel', (e) => put(e.detail.centre), { signal: listening.signal })
}
onUnmounted(() => listening.abort())

async function here(): Promise<void> {
  asking.value = true
  problem.value = null
  try {
    const { at, accuracy } = await ownPosition()
    put(at)
    props.map.travelTo({ centre: at, zoom: Math.max(props.map.view.zoom, 15) })
    remark.value = `The device is there within about ${Math.round(accuracy)} m.`
  } catch (e) {
    problem.value = (e as Error).message
  }
  asking.value = false
}

/** Nudges the place by a metre, by ten with the shift key. */
function nudge(e: KeyboardEvent): void {
  const [x, y] = { ArrowLeft: [-1, 0], ArrowRight: [1, 0], ArrowUp: [0, 1], ArrowDown: [0, -1] }[e.key] ?? []
  if (x === undefined || y === undefined) return
  e.preventDefault()
  const metres = e.shiftKey ? 10 : 1
  const degree = 111_195 // metres
  const shrink = Math.max(Math.cos((props.at.lat * Math.PI) / 180), 1e-6)
  put({ lat: props.at.lat + (y * metres) / degree, lon: props.at.lon + (x * metres) / degree / shrink })
}
</script>

<template>
  <fieldset>
    <legend>Where</legend>
    <p class="soft">Click the map, drag the marker, or type or paste a position.</p>
    <div class="pair">
      <label>Latitude<InputText v-model="lat" size="small" @change="typed(lat)" /></label>
      <label>Longitude<InputText v-model="lon" size="small" @change="typed(lon)" /></label>
    </div>
    <p v-if="problem" class="wrong" role="alert">{{ problem }}</p>
    <p v-if="remark" class="soft" role="status">{{ remark }}</p>
    <div v-if="either" class="either" role="group" aria-label="Which order">
      <p>This can be read in two ways. Which one is it?</p>
      <Button
        v-for="p in either"
        :key="p.lat"
        :label="`latitude ${written(p.lat)}, longitude ${written(p.lon)}`"
        size="small"
        severity="secondary"
        @click="put(p)"
      />
    </div>
    <div class="pair">
      <Button
        :label="aiming ? 'Leave it here' : 'Aim with the map'"
        size="small"
        severity="secondary"
        :aria-pressed="aiming"
        @click="aim(!aiming)"
      />
      <Button label="Where I am" size="small" severity="secondary" :disabled="asking" @click="here" />
      <Button label="Map centre" size="small" severity="secondary" @click="put(map.view.centre)" />
      <Button
        label="Nudge ← ↑ → ↓"
        title="Arrow keys move it by a metre, with Shift by ten"
        size="small"
        severity="secondary"
        @keydown="nudge"
      />
    </div>
    <Message v-if="aiming" severity="secondary" size="small">Move the map: the place is in its middle.</Message>
  </fieldset>
  <Teleport v-if="aiming && map.parentElement" :to="map.parentElement">
    <div class="cross" aria-hidden="true">
      <span>{{ written(at.lat) }}, {{ written(at.lon) }}</span>
    </div>
  </Teleport>
</template>

<style scoped>
fieldset {
  border: 1px solid var(--rule);
  border-radius: 6px;
  padding: 0.3rem 0.7rem 0.7rem;
}
.pair {
  display: grid;
  grid-template-columns: 1fr 1fr;
  gap: 0.5rem;
  margin: 0.3rem 0 0.5rem;
}
.pair :deep(input) {
  width: 100%;
}
.wrong {
  color: var(--signal);
}
.either {
  display: grid;
  gap: 0.4rem;
}
.cross {
  position: absolute;
  inset: 0;
  pointer-events: none;
}
.cross::before,
.cross::after {
  content: '';
  position: absolute;
  background: var(--signal);
}
.cross::before {
  inset: calc(50% - 22px) auto auto 50%;
  width: 1.5px;
  height: 44px;
}
.cross::after {
  inset: 50% auto auto calc(50% - 22px);
  width: 44px;
  height: 1.5px;
}
.cross span {
  position: absolute;
  inset: calc(50% + 28px) auto auto 50%;
  translate: -50%;
  padding: 0.1rem 0.5rem;
  border: 1px solid var(--rule);
  border-radius: 6px;
  background: var(--card);
  font-variant-numeric: tabular-nums;
  white-space: nowrap;
}
@media (max-width: 700px) {
  .cross {
    inset: 0 0 55% 0; /* the form is below */
  }
}
</style>
