<script setup lang="ts">
import InputText from 'primevue/inputtext'
import { computed, ref, watch } from 'vue'
import { RouterLink, useRoute, useRouter } from 'vue-router'
import { type Device, fetchDevices, fetchGroups, fetchTrack, groupsPath, type Listing, listPath } from '../api/devices'
import Choice from '../parts/Choice.vue'
import { counted } from '../text/format'
import Sparkline from './Sparkline.vue'
import { useFollowed } from './useFollowed'
import { useNow } from './useNow'
import { agoText, batteryOf, speedText, stateText } from './words'

// The devices in a list, by state, group and text; a click flies to one on the map.
const pageSize = 50
const route = useRoute()
const router = useRouter()
const now = useNow()

const one = (name: string) => [route.query[name] ?? []].flat()[0] ?? ''
const text = ref(one('q'))
const condition = ref(one('filter'))
const state = computed(() => one('state'))
const group = computed(() => one('group'))
const sort = computed(() => one('sort') || 'state')
const offset = computed(() => Math.max(0, Math.floor(Number(one('offset')) || 0)))

function show(change: Record<string, string | number | undefined>): void {
  const query = { ...route.query, offset: undefined, ...change }
  void router.replace({ name: 'devices', query })
}
let timer = 0
watch(text, (now) => {
  window.clearTimeout(timer)
  timer = window.setTimeout(() => show({ q: now.trim() || undefined }), 250)
})

const listing = computed<Listing>(() => ({
  groups: group.value ? [group.value] : [],
  states: state.value ? [state.value] : [],
  text: one('q'),
  filter: one('filter'),
  sort: sort.value,
  offset: offset.value,
  limit: pageSize,
}))
const { value: page, problem } = useFollowed(
  () => listPath(listing.value),
  (signal) => fetchDevices(listing.value, signal),
)
const { value: groups } = useFollowed(() => groupsPath, fetchGroups)

const groupChoices = computed(() => [
  { label: 'All groups', value: '' },
  ...(groups.value ?? []).map((g) => ({ label: g.title || g.id, value: g.id })),
])
const groupOf = (d: Device) => groups.value?.find((g) => g.id === d.group)
const states = ['moving', 'still', 'silent', 'unheard', 'paused']
const all = computed(() => Object.values(page.value?.states ?? {}).reduce((a, b) => a + b, 0))

const sorts = [
  { label: 'State', value: 'state' },
  { label: 'Name', value: 'name' },
  { label: 'Device', value: 'id' },
  { label: 'Last heard', value: '-time' },
  { label: 'Fastest', value: '-speed' },
]

// The speeds of the last positions of each device: what they were, and what is heard since.
const speeds = ref(new Map<string, { time: string; values: number[] }>())
const kept = 40
watch(page, (now) => {
  for (const d of now?.devices ?? []) {
    const known = speeds.value.get(d.id)
    if (!known) {
      speeds.value.set(d.id, { time: d.position?.timestamp ?? '', values: [] })
      if (d.position)
        void fetchTrack(d.id, { limit: kept })
          .then((t) => {
            const of = speeds.value.get(d.id)
            if (of) of.values = [...t.positions.map((p) => p.speed ?? 0), ...of.values].slice(-kept)
          })
          .catch(() => undefined) // the list is right without
    } else if (d.position && d.position.timestamp !== known.time) {
      known.time = d.position.timestamp
      known.values = [...known.values, d.speed ?? 0].slice(-kept)
    }
  }
})

const age = (d: Device) => (d.position ? agoText(now.value - Date.parse(d.position.timestamp)) : '')
const battery = (d: Device) => batteryOf(d.position?.properties as Record<string, unknown> | undefined)
</script>

<template>
  <div class="list">
    <div class="tools">
      <InputText v-model="text" size="small" placeholder="Find by id or name" aria-label="Find by id or name" />
      <InputText
        v-model="condition"
        size="small"
        placeholder="Condition, such as battery &lt; 20"
        aria-label="Condition"
        class="condition"
        spellcheck="false"
        :invalid="problem !== null && listing.filter !== ''"
        @change="show({ filter: condition.trim() || undefined })"
      />
      <Choice
        :model-value="group"
        :options="groupChoices"
        label="Group"
        @update:model-value="(g: string) => show({ group: g || undefined })"
      />
      <Choice
        :model-value="sort"
        :options="sorts"
        label="Order"
        @update:model-value="(s: string) => show({ sort: s })"
      />
    </div>
    <div class="states" role="group" aria-label="State">
      <button type="button" :aria-pressed="!state" @click="show({ state: undefined })">All {{ all }}</button>
      <template v-for="s in states" :key="s">
        <button
          v-if="page?.states[s] || state === s"
          type="button"
          :aria-pressed="state === s"
          @click="show({ state: s })"
        >
          <span class="mark" :class="s" />{{ stateText[s] }} {{ page?.states[s] ?? 0 }}
        </button>
      </template>
    </div>
    <p v-if="problem" role="alert">The devices cannot be shown. {{ problem }}</p>
    <p v-else-if="page && page.matched === 0 && all === 0 && !listing.text && !listing.filter && !group" class="empty">
      There are no devices yet. One is made with its first report:
      <code>idlebeacon report WB-01 --lat -38.5 --lon -22</code>
    </p>
    <p v-else-if="page && page.matched === 0" class="empty">No device is like that.</p>
    <div v-else-if="page" class="scroll">
      <table>
        <thead>
          <tr>
            <th>Device</th>
            <th><span class="wide">State</span></th>
            <th>Last heard</th>
            <th class="number">Speed</th>
            <th class="spark">Lately</th>
            <th class="number">Battery</th>
            <th class="wide">Group</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="d in page.devices" :key="d.id" :class="d.state">
            <td>
              <RouterLink v-if="d.position" :to="{ name: 'map', query: { device: d.id } }" title="Show on the map">
                <span dir="auto">{{ d.name || d.id }}</span>
              </RouterLink>
              <span v-else dir="auto">{{ d.name || d.id }}</span>
              <small v-if="d.name">{{ d.id }}</small>
            </td>
            <td
              ><span class="mark" :class="d.state" /><span class="wide">{{ stateText[d.state] }}</span></td
            >
            <td>{{ age(d) }}</td>
            <td class="number">{{ speedText(d.speed) }}</td>
            <td class="spark">
              <Sparkline :values="speeds.get(d.id)?.values ?? []" :label="`Speeds of ${d.name || d.id} lately`" />
            </td>
            <td class="number" :class="{ low: (battery(d) ?? 100) < 20 }">
              {{ battery(d) === null ? '' : `${battery(d)} %` }}
            </td>
            <td class="wide">{{ groupOf(d)?.title || d.group }}</td>
          </tr>
        </tbody>
      </table>
    </div>
    <nav v-if="page && page.matched > pageSize" aria-label="Pages of the list">
      <button
        type="button"
        :disabled="offset === 0"
        @click="show({ offset: Math.max(0, offset - pageSize) || undefined })"
        >Before</button
      >
      <span>{{ offset + 1 }} to {{ offset + page.returned }} of {{ counted(page.matched, 'device', 'devices') }}</span>
      <button
        type="button"
        :disabled="offset + page.returned >= page.matched"
        @click="show({ offset: offset + pageSize })"
        >After</button
      >
    </nav>
  </div>
</template>

<style scoped>
.list {
  display: flex;
  flex-direction: column;
  gap: 0.7rem;
}
.tools {
  display: flex;
  flex-wrap: wrap;
  gap: 0.5rem;
}
.condition {
  width: 16rem;
}
.states {
  display: flex;
  flex-wrap: wrap;
  gap: 0.4rem;
}
.states button,
nav button {
  padding: 0.25rem 0.8rem;
  border: 1px solid var(--rule);
  border-radius: 6px;
  background: var(--card);
  color: inherit;
  font: inherit;
  cursor: pointer;
}
.states button[aria-pressed='true'] {
  background: var(--bar);
  color: var(--on-bar);
}
nav button:disabled {
  opacity: 0.5;
  cursor: default;
}
.scroll {
  overflow-x: auto;
  flex: none;
}
table {
  width: 100%;
  border-collapse: collapse;
  background: var(--card);
}
th,
td {
  padding: 0.4rem 0.7rem;
  border-bottom: 1px solid var(--rule);
  text-align: start;
  white-space: nowrap;
}
th {
  font-weight: 600;
  color: var(--soft);
}
td {
  font-variant-numeric: tabular-nums;
}
.number {
  text-align: end;
}
.spark {
  width: 130px;
  color: var(--soft);
}
small {
  margin-inline-start: 0.5rem;
  color: var(--soft);
}
tr.silent td,
tr.paused td,
tr.unheard td {
  color: var(--soft);
}
.low {
  color: var(--signal);
  font-weight: 600;
}
.mark {
  display: inline-block;
  width: 0.7em;
  height: 0.7em;
  margin-inline-end: 0.45em;
  border-radius: 50%;
  border: 2px solid currentColor;
}
.mark.moving {
  border-width: 0;
  border-radius: 0;
  background: currentColor;
  clip-path: polygon(0 0, 100% 50%, 0 100%, 25% 50%);
}
.mark.still {
  background: currentColor;
}
.mark.silent,
.mark.unheard {
  border-style: dashed;
}
.mark.paused {
  border-radius: 2px;
}
@media (max-width: 600px) {
  .wide,
  .spark,
  small {
    display: none;
  }
  th,
  td {
    padding-inline: 0.35rem;
  }
  td:first-child {
    white-space: normal;
  }
}
.empty {
  color: var(--soft);
  line-height: 1.5;
}
nav {
  display: flex;
  align-items: center;
  gap: 0.8rem;
}
</style>
