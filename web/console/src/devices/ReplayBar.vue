<script setup lang="ts">
import type { IdleMap, Marker } from '@idlebeacon/map'
import type { Devices } from '@idlebeacon/map/devices'
import { computed, onMounted, onUnmounted, ref, shallowRef, watch } from 'vue'
import { fetchPast, type Group, keyOf, type Past } from '../api/devices'
import { explain } from '../api/explain'
import Icon from '../parts/Icon.vue'
import { fetchNotices, type Noticed } from '../api/watches'
import { useSession } from '../stores/session'
import { counted, language } from '../text/format'
import { noticeText } from '../watches/words'

// A slider over the past: shows on the map where devices were at a moment, and lets it go on.
const props = defineProps<{
  map: IdleMap
  layer: Devices
  groups: readonly Group[]
  source: string
  at: number | null
}>()
const emit = defineEmits<{ close: []; frame: [markers: Marker[]] }>()

const frame = 500 // ms between two moments that are shown while it plays
const spans = [
  { label: '1 h', hours: 1 },
  { label: '6 h', hours: 6 },
  { label: '24 h', hours: 24 },
  { label: '7 days', hours: 168 },
]
const speeds = [1, 10, 60, 300]
const hour = 3_600_000
const moments = new Intl.DateTimeFormat(language, { dateStyle: 'medium', timeStyle: 'medium' })

const end = ref(Math.max(Date.now(), (props.at ?? 0) + hour / 2))
const hours = ref(spans.find((s) => (props.at ?? Infinity) > end.value - s.hours * hour)?.hours ?? 1)
const at = ref(props.at ?? end.value - hour / 2)
const speed = ref(60)
const playing = ref(false)
const problem = ref<string | null>(null)
const heard = ref(0) // devices that had said where they were
const begin = computed(() => end.value - hours.value * hour)
let shown = new Set<string>() // keys of markers
let request: AbortController | null = null
let timer = 0

/** Shows where devices were, and whether that could be done. */
async function show(): Promise<boolean> {
  request?.abort()
  const mine = (request = new AbortController())
  try {
    const past = await fetchPast(
      new Date(at.value),
      props.groups.map((g) => g.id),
      mine.signal,
    )
    if (mine.signal.aborted) return false
    const markers = past.devices.map(markerOf)
    const now = new Set(markers.map((m) => m.key))
    props.map.patch(props.source, { markers, removed: [...shown].filter((k) => !now.has(k)) })
    shown = now
    emit('frame', markers)
    heard.value = markers.length
    problem.value = null
    return true
  } catch (e) {
    if (!mine.signal.aborted) problem.value = explain(e)
    return false
  }
}

function markerOf(p: Past['devices'][number]): Marker {
  const { position } = p
  const state = p.silent ? 'silent' : (position.speed ?? 0) > 0.5 ? 'moving' : 'still'
  return {
    key: keyOf('device', p.id),
    layer: p.group,
    kind: 'device',
    at: { lon: position.longitude, lat: position.latitude },
    id: p.id,
    name: p.name ?? '',
    category: state,
    drawing: p.colour ? { colour: p.colour } : {},
    count: 1,
    tally: [],
    opensAt: null,
    extent: null,
    stacked: [],
    device: {
      time: Date.parse(position.timestamp),
      state,
      ...(position.heading !== undefined && { heading: position.heading }),
      ...(position.speed !== undefined && { speed: position.speed }),
    },
  }
}

// What was noticed in the span, as marks over the slider; the last before the moment is told.
const session = useSession()
const noticed = shallowRef<Noticed[]>([]) // oldest first
watch(
  [begin, end],
  async () => {
    if (!session.reads) return
    const ask = {
      from: new Date(begin.value),
      to: new Date(end.value),
      groups: props.groups.map((g) => g.id),
      limit: 1000,
    }
    const found = await fetchNotices(ask).catch(() => null) // the replay is right without
    if (found) noticed.value = found.notices.sort((a, b) => Date.parse(a.time) - Date.parse(b.time))
  },
  { immediate: true },
)
const marks = computed(() => {
  const places = 300 // of the slider: those that share one are one mark
  const by = new Map<number, Noticed[]>()
  for (const n of noticed.value) {
    const place = Math.round(((Date.parse(n.time) - begin.value) / (end.value - begin.value)) * places)
    by.set(place, [...(by.get(place) ?? []), n])
  }
  return [...by].map(([place, some]) => ({ left: (place / places) * 100, some }))
})
const latest = computed(() => noticed.value.findLast((n) => Date.parse(n.time) <= at.value))
const markText = (some: readonly Noticed[]) =>
  some
    .slice(0, 5)
    .map((n) => `${n.device} ${noticeText(n)}`)
    .join('\n') + (some.length > 5 ? `\nand ${some.length - 5} more` : '')
function toNotice(n: Noticed | undefined): void {
  if (!n) return
  playing.value = false
  go(Date.parse(n.time))
}
const following = computed(() => noticed.value.find((n) => Date.parse(n.time) > at.value))
const preceding = computed(() => noticed.value.findLast((n) => Date.parse(n.time) < at.value - 999))

async function step(): Promise<void> {
  const began = performance.now()
  at.value = Math.min(end.value, at.value + frame * speed.value)
  await show()
  if (at.value >= end.value) playing.value = false
  if (playing.value) timer = window.setTimeout(() => void step(), Math.max(0, frame - (performance.now() - began)))
}
watch(playing, (on) => {
  window.clearTimeout(timer)
  props.layer.pace = on ? frame : null
  if (on) void step()
})
watch(
  at,
  (now) => {
    props.layer.clockAhead = now - Date.now() // rings show how old positions were then
    const address = new URL(window.location.href)
    address.searchParams.set('time', new Date(now).toISOString().slice(0, 19) + 'Z')
    window.history.replaceState(window.history.state, '', address)
  },
  { immediate: true },
)
function move(by: number): void {
  playing.value = false
  go(at.value + by)
}
function go(to: number): void {
  at.value = Math.max(begin.value, Math.min(end.value, to))
  void show()
}
function choose(chosen: number): void {
  hours.value = chosen
  if (at.value < begin.value) go(begin.value)
}
onMounted(() => void show())
onUnmounted(() => {
  window.clearTimeout(timer)
  request?.abort()
  props.layer.pace = null
  props.layer.clockAhead = 0
  const address = new URL(window.location.href)
  address.searchParams.delete('time')
  window.history.replaceState(window.history.state, '', address)
})
</script>

<template>
  <div class="replay" role="region" aria-label="Replay">
    <div class="row">
      <button class="slim" type="button" :disabled="at >= end" @click="playing = !playing">
        {{ playing ? 'Pause' : 'Play' }}
      </button>
      <button class="slim" type="button" aria-label="A minute back" title="A minute back" @click="move(-60_000)"
        >−1 min</button
      >
      <button class="slim" type="button" aria-label="A minute on" title="A minute on" @click="move(60_000)"
        >+1 min</button
      >
      <strong>{{ moments.format(at) }}</strong>
      <span class="heard">{{ counted(heard, 'device', 'devices') }}</span>
      <button type="button" class="slim close" aria-label="End the replay" @click="emit('close')"
        ><Icon name="x"
      /></button>
    </div>
    <div v-if="marks.length > 0" class="marks">
      <button
        class="slim"
        v-for="m in marks"
        :key="m.left"
        type="button"
        tabindex="-1"
        aria-hidden="true"
        :style="{ left: `${m.left}%` }"
        :title="markText(m.some)"
        @click="toNotice(m.some[0])"
      />
    </div>
    <input
      type="range"
      aria-label="Moment"
      :aria-valuetext="moments.format(at)"
      :min="begin"
      :max="end"
      :step="1000"
      :value="at"
      @input="((playing = false), go(Number(($event.target as HTMLInputElement).value)))"
    />
    <div class="row">
      <span>Last</span>
      <button
        class="slim"
        v-for="s in spans"
        :key="s.hours"
        type="button"
        :aria-pressed="hours === s.hours"
        @click="choose(s.hours)"
        >{{ s.label }}</button
      >
      <span class="apart">Speed</span>
      <button class="slim" v-for="s in speeds" :key="s" type="button" :aria-pressed="speed === s" @click="speed = s"
        >{{ s }}×</button
      >
    </div>
    <div v-if="noticed.length > 0" class="row told">
      <button
        class="slim"
        type="button"
        :disabled="!preceding"
        aria-label="The notice before"
        @click="toNotice(preceding)"
        >‹</button
      >
      <button
        class="slim"
        type="button"
        :disabled="!following"
        aria-label="The next notice"
        @click="toNotice(following)"
        >›</button
      >
      <span v-if="latest">{{ latest.device }} {{ noticeText(latest) }}</span>
      <span v-else class="heard">{{ counted(noticed.length, 'notice', 'notices') }} in this span</span>
    </div>
    <p v-if="problem" role="alert">{{ problem }}</p>
  </div>
</template>

<style scoped>
.replay {
  position: absolute;
  z-index: 2;
  left: 12px;
  right: 12px;
  bottom: 60px;
  max-width: 620px;
  margin-inline: auto;
  padding: 0.6rem 0.8rem;
  display: grid;
  gap: 0.5rem;
  border: 1px solid var(--rule);
  border-radius: 8px;
  background: var(--card);
}
.row {
  display: flex;
  flex-wrap: wrap;
  align-items: center;
  gap: 0.4rem;
}
button[aria-pressed='true'] {
  background: var(--bar);
  color: var(--on-bar);
}
button:disabled {
  opacity: 0.5;
  cursor: default;
}
strong {
  margin-inline: 0.5rem auto;
  font-variant-numeric: tabular-nums;
}
.heard {
  color: var(--soft);
}
.apart {
  margin-inline-start: auto;
}
.marks {
  position: relative;
  height: 0.7rem;
  margin: 0 8px -0.4rem;
}
.marks button {
  position: absolute;
  top: 0;
  width: 2px;
  height: 100%;
  margin-left: -1px;
  padding: 0;
  border: 0;
  background: var(--signal);
}
.told span {
  flex: 1;
  min-width: 0;
  overflow: hidden;
  text-overflow: ellipsis;
  white-space: nowrap;
}
input {
  width: 100%;
  accent-color: var(--bar);
}
</style>
