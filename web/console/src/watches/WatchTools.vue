<script setup lang="ts">
import type { IdleMap, MarkerSource, Position, Shape } from '@idlebeacon/map'
import { Looks } from '@idlebeacon/map'
import { circleAround, ringsOf } from '@idlebeacon/map/sketch'
import ToggleSwitch from 'primevue/toggleswitch'
import { computed, onScopeDispose, ref, shallowRef, watch } from 'vue'
import { RouterLink, useRoute } from 'vue-router'
import { fetchDevice, type Group } from '../api/devices'
import { explain } from '../api/explain'
import { fetchItem } from '../api/items'
import { changeWatch, fetchWatches, type Noticed, type Watch } from '../api/watches'
import { useNotices } from '../stores/notices'
import { useSession } from '../stores/session'
import { counted } from '../text/format'
import NoticeList from './NoticeList.vue'
import { useNoticed } from './useNoticed'
import WatchForm from './WatchForm.vue'
import { noticeText, ruleText } from './words'

// The watches on the map page: what they noticed just now, and the watches themselves, which are drawn while the list
// of them is open.
const props = defineProps<{ map: IdleMap; groups: readonly Group[] }>()
const emit = defineEmits<{ source: [sources: MarkerSource[]]; show: [notice: Noticed] }>()
const session = useSession()
const messages = useNotices()
const route = useRoute()

const quiet = ref(localStorage.getItem('idlebeacon-notices') === 'quiet')
watch(quiet, (on) => localStorage.setItem('idlebeacon-notices', on ? 'quiet' : 'told'))
const shown = computed(() => new Set(props.groups.map((g) => g.id)))
const { all, known } = useNoticed({ limit: 30 }, () => true, tell)
const few = 5

const pause = 6000 // ms between two messages
let next: number | undefined // the timer of the next message
let waiting: Noticed[] = [] // what came meanwhile, the newest first
onScopeDispose(() => window.clearTimeout(next))
/** Tells of notices in passing: the first at once, those of the next few seconds together. */
function tell(some: Noticed[]): void {
  waiting = [...some.filter((n) => shown.value.has(n.group)).reverse(), ...waiting].slice(0, 1000)
  if (next === undefined) tellOfWaiting()
}
function tellOfWaiting(): void {
  const [first] = waiting
  next = undefined
  if (quiet.value || !first) return void (waiting = [])
  const others = waiting.length > 1 ? `, and ${counted(waiting.length - 1, 'other notice', 'other notices')}` : ''
  messages.done(`${first.device} ${noticeText(first)}${others}`, { label: 'Show', act: () => emit('show', first) })
  waiting = []
  next = window.setTimeout(tellOfWaiting, pause)
}

const watches = shallowRef<Watch[] | null>(null)
const problem = ref<string | null>(null)
const opened = ref(route.query.watch !== undefined)
const form = shallowRef<{ watch: Watch | null } | null>(null)
async function load(): Promise<void> {
  try {
    watches.value = await fetchWatches()
    problem.value = null
    await draw()
  } catch (e) {
    problem.value = explain(e)
  }
}
watch(opened, (on) => (on ? void load() : emit('source', [])), { immediate: true })
onScopeDispose(() => emit('source', []))

const id = 'watches'
const looks = new Looks({
  default: { colour: '#8a3ffc', fill: { opacity: 0.08 }, line: { dash: 'dashed', width: 2 } },
})
/** Draws where watches watch. */
async function draw(): Promise<void> {
  const shapes = (await Promise.all((watches.value ?? []).map(shapeOf))).flatMap((s) => (s ? [s] : []))
  if (!opened.value) return
  emit('source', [
    { id, looks, load: () => Promise.resolve([]), shapes: () => Promise.resolve(shapes), current: () => true },
  ])
}
async function shapeOf(w: Watch): Promise<Shape | null> {
  const at = w.rule.where
  if (!at || w.off || form.value?.watch === w) return null
  const known = { id: w.id, name: w.title || w.id, category: '', drawing: {} }
  try {
    const middle = await middleOf(at)
    if (middle && 'type' in middle) return { ...known, geometry: middle }
    if (!middle || !at.radius) return null
    const [ring = []] = ringsOf(circleAround(middle, at.radius))
    const positions = [...ring, ...ring.slice(0, 1)].map((p) => [p.lon, p.lat])
    return { ...known, geometry: { type: 'Polygon', coordinates: [positions] } }
  } catch {
    return null // it is gone, or not for this user; the list says so
  }
}
async function middleOf(at: NonNullable<Watch['rule']['where']>): Promise<Position | GeoJSON.Geometry | null> {
  if (at.longitude !== undefined && at.latitude !== undefined) return { lon: at.longitude, lat: at.latitude }
  if (at.device) {
    const { position } = await fetchDevice(at.device)
    return position ? { lon: position.longitude, lat: position.latitude } : null
  }
  if (!at.collection || !at.item) return null
  const geometry = (await fetchItem(at.collection, at.item)).geometry as GeoJSON.Geometry
  if (!at.radius) return geometry
  return geometry.type === 'Point' ? { lon: geometry.coordinates[0] ?? 0, lat: geometry.coordinates[1] ?? 0 } : null
}

async function turn(w: Watch, on: boolean): Promise<void> {
  try {
    await changeWatch(w.id, { off: !on })
  } catch (e) {
    messages.failed(`The watch is as it was. ${explain(e)}`)
  }
  await load()
}
function edit(w: Watch | null): void {
  form.value = { watch: w }
  void draw()
}
function close(): void {
  form.value = null
  void load()
}

// The watch that the address names is gone to, and opened if it is to be changed.
const [named] = [route.query.watch ?? []].flat()
const toEdit = route.query.edit !== undefined
const stop = watch(watches, (list) => {
  const found = list?.find((w) => w.id === named)
  if (list) stop()
  if (!found) return
  void middleOf(found.rule.where ?? {})
    .then((m) => {
      if (!m) return
      const corner = 'type' in m && m.type === 'Polygon' ? m.coordinates[0]?.[0] : undefined
      const centre = 'lon' in m ? m : corner && { lon: corner[0] ?? 0, lat: corner[1] ?? 0 }
      if (centre) props.map.travelTo({ centre, zoom: Math.max(props.map.view.zoom, 12) })
    })
    .catch(() => undefined) // the list says what is wrong
  if (toEdit && session.edits) edit(found)
})
</script>

<template>
  <section aria-labelledby="notices-title">
    <h2 id="notices-title"
      >Notices <RouterLink :to="{ name: 'devices', query: { show: 'notices' } }">All</RouterLink></h2
    >
    <NoticeList v-if="all.length > 0" :notices="all.slice(0, few)" @show="emit('show', $event)" />
    <p v-else-if="known" class="soft"
      >Nothing was noticed yet. A watch notices who enters, leaves, stays or is silent.</p
    >
    <label v-if="all.length > 0" class="quiet">
      <ToggleSwitch
        :model-value="!quiet"
        input-id="tell-notices"
        @update:model-value="(on: boolean) => (quiet = !on)"
      />
      Tell me as they come
    </label>
    <button type="button" class="slim more" :aria-expanded="opened" @click="opened = !opened">
      {{ opened ? 'Hide the watches' : 'Watches' }}
    </button>
    <template v-if="opened">
      <p v-if="problem" role="alert">{{ problem }}</p>
      <ul v-if="watches && watches.length > 0">
        <li v-for="w in watches" :key="w.id">
          <span class="title" dir="auto">{{ w.title || w.id }}</span>
          <ToggleSwitch
            v-if="session.edits"
            :model-value="!w.off"
            :aria-label="`${w.title || w.id} watches`"
            @update:model-value="(on: boolean) => void turn(w, on)"
          />
          <span class="soft rule">{{ ruleText(w.rule) }}</span>
          <span v-if="w.problem" class="wrong">It does not watch: {{ w.problem }}</span>
          <button v-if="session.edits" type="button" class="link" @click="edit(w)">Change</button>
        </li>
      </ul>
      <p v-else-if="watches" class="soft">There is no watch yet.</p>
      <WatchForm
        v-if="form"
        :key="form.watch?.id ?? ''"
        :map="map"
        :groups="groups"
        :old="form.watch"
        @done="close"
        @close="close"
      />
      <button v-else-if="session.edits" type="button" class="slim more" @click="edit(null)">New watch</button>
    </template>
  </section>
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
  margin: 0.4rem 0 0;
  padding: 0;
}
li {
  display: grid;
  grid-template-columns: 1fr auto;
  gap: 0.2rem 0.8rem;
  align-items: center;
  padding: 0.5rem 0;
  border-top: 1px solid var(--rule);
}
.title {
  font-weight: 600;
  overflow-wrap: anywhere;
}
.rule,
.wrong {
  grid-column: 1 / -1;
  overflow-wrap: anywhere;
}
.soft {
  color: var(--soft);
  margin: 0;
  font-size: 0.9rem;
}
.wrong {
  color: var(--signal);
}
.quiet {
  display: flex;
  align-items: center;
  gap: 0.6rem;
  padding: 0.5rem 0;
}
.more {
  margin-top: 0.4rem;
}
.link {
  justify-self: start;
}
</style>
