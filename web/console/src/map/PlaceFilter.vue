<script setup lang="ts">
import type { Box, Density } from '@idlebeacon/map'
import InputText from 'primevue/inputtext'
import { computed, defineAsyncComponent, onMounted, onUnmounted, ref, watch } from 'vue'
import type { Collection } from '../api/collections'
import { explain, ServiceError } from '../api/explain'
import { fetchCounts } from '../api/items'
import type { Chosen } from '../api/selection'
import { follow, isLive } from '../api/live'
import { fetchLegend, type Legend, legendPath } from '../api/styles'
import LegendMark from '../parts/LegendMark.vue'
import type { Styled } from '../stores/styles'
import { numberText } from '../text/format'

const ExportChoice = defineAsyncComponent(() => import('../parts/ExportChoice.vue')) // not needed until it is opened

// The legend of a collection, whose categories can be switched off, and what else chooses among its places.
const props = defineProps<{
  collection: Collection
  styled: Styled | undefined
  chosen: Chosen
  box: Box | null
  density: Density | undefined // what is shaded, as it was fetched last
}>()
const emit = defineEmits<{ choose: [what: Chosen] }>()

const DensityKey = defineAsyncComponent(() => import('../parts/DensityKey.vue')) // seldom needed

const pause = 350 // ms after the last key before what was typed counts

const name = ref(props.chosen.name)
const filter = ref(props.chosen.filter)
const problem = ref<string | null>(null)
const found = ref<{ counts: Map<string, number>; matched: number } | null>(null) // null where all are chosen
const legend = ref<Legend | null>(null)
const opened = ref(props.chosen.name !== '' || props.chosen.filter !== '') // it is folded away until it is wanted
let timer = 0
let request: AbortController | null = null

const id = (what: string) => `${what}-${props.collection.id}`
const count = (category: string, all: number) => (found.value ? (found.value.counts.get(category) ?? 0) : all)
const narrowed = computed(
  () =>
    props.chosen.hidden.length > 0 || props.chosen.name !== '' || props.chosen.filter !== '' || problem.value !== null,
)

/** Counts what the name and condition choose; only what the service understands is passed on to the map. */
async function apply(): Promise<void> {
  clearTimeout(timer)
  request?.abort()
  const mine = (request = new AbortController())
  const what = { ...props.chosen, name: name.value.trim(), filter: filter.value.trim() }
  try {
    found.value = what.name || what.filter ? await fetchCounts(props.collection.id, what, mine.signal) : null
    problem.value = null
    if (what.name !== props.chosen.name || what.filter !== props.chosen.filter) emit('choose', what)
  } catch (e) {
    if (mine.signal.aborted) return
    if (e instanceof ServiceError && props.chosen.filter !== '' && props.chosen.filter === what.filter) {
      emit('choose', { ...props.chosen, filter: '' }) // it came with the address of the page
    }
    opened.value = true // where the problem is told
    problem.value = explain(e).replace(/^filter: is not a condition: a/, 'A')
  }
}
function typed(): void {
  clearTimeout(timer)
  timer = window.setTimeout(() => void apply(), pause)
}
function toggle(category: string): void {
  const hidden = props.chosen.hidden.includes(category)
    ? props.chosen.hidden.filter((c) => c !== category)
    : [...props.chosen.hidden, category]
  emit('choose', { ...props.chosen, hidden })
}
function reset(): void {
  name.value = filter.value = ''
  problem.value = null
  found.value = null
  emit('choose', { hidden: [], name: '', filter: '' })
}

/** The categories, and the rest of the legend: rules, sizes, shades and circles. */
const categories = computed(() => legend.value?.entries.filter((e) => e.kind === 'category') ?? [])
const rest = computed(() => legend.value?.entries.filter((e) => e.kind !== 'category') ?? [])
/** How the condition of an entry is chosen by a click on it, and let go by another. */
const only = (when: string) => props.chosen.filter === when
function showOnly(when: string): void {
  filter.value = only(when) ? '' : when
  if (filter.value) opened.value = true
  void apply()
}
const showLegend = () =>
  void fetchLegend(props.collection.id).then(
    (l) => (legend.value = { ...l }),
    () => {}, // the categories are told without it
  )
const following = new AbortController()
onMounted(() => {
  showLegend()
  follow(legendPath(props.collection.id), showLegend, following.signal)
})
watch(() => props.styled, showLegend) // icons that are known by now
watch(
  () => props.collection.change,
  () => {
    if (!isLive()) showLegend()
  },
)

watch(
  () => props.collection.change,
  () => {
    if (!problem.value) void apply()
  },
  { immediate: true },
)
onUnmounted(() => {
  following.abort()
  clearTimeout(timer)
  request?.abort()
})
</script>

<template>
  <div class="filter">
    <ul v-if="categories.length > 0" class="legend" :aria-label="`Categories of ${collection.title}`">
      <li v-for="e in categories" :key="e.value">
        <button type="button" :aria-pressed="!chosen.hidden.includes(e.value ?? '')" @click="toggle(e.value ?? '')">
          <LegendMark :entry="e" :lines="collection.places === 0" />
          <span class="what">{{ e.label }}</span>
          <span class="count">{{ numberText(count(e.value ?? '', e.count ?? 0)) }}</span>
        </button>
      </li>
    </ul>
    <ul v-if="rest.length > 0" class="legend" :aria-label="`More of the legend of ${collection.title}`">
      <li v-for="e in rest" :key="e.kind + e.label">
        <button
          v-if="e.when"
          type="button"
          :aria-pressed="!chosen.filter || only(e.when)"
          :title="`Show only: ${e.when}`"
          @click="showOnly(e.when)"
        >
          <LegendMark :entry="e" :lines="collection.places === 0" />
          <span class="what">{{ e.label }}</span>
          <span v-if="e.count" class="count">{{ numberText(e.count) }}</span>
        </button>
        <span v-else class="entry">
          <LegendMark v-if="e.kind !== 'density' || !density" :entry="e" />
          <span class="what">{{ e.label }}</span>
        </span>
        <DensityKey v-if="e.kind === 'density' && density" :density="density" />
      </li>
    </ul>
    <p v-if="found" class="matched" role="status"
      >{{ numberText(found.matched) }} of {{ numberText(collection.count) }} places</p
    >
    <details :open="opened" class="more" @toggle="opened = ($event.target as HTMLDetailsElement).open">
      <summary>Filter and export</summary>
      <label :for="id('name')">Name contains</label>
      <InputText :id="id('name')" v-model="name" size="small" @input="typed" @keydown.enter="apply" />
      <label :for="id('filter')">Condition</label>
      <InputText
        :id="id('filter')"
        v-model="filter"
        size="small"
        placeholder="berths >= 4"
        :invalid="problem !== null"
        :aria-describedby="problem ? id('problem') : id('help')"
        spellcheck="false"
        autocapitalize="off"
        @input="typed"
        @keydown.enter="apply"
      />
      <p v-if="problem" :id="id('problem')" class="problem" role="alert">{{ problem }}</p>
      <details :id="id('help')">
        <summary>How to write a condition</summary>
        <ul>
          <li><code>berths &gt;= 4 AND depth &lt; 3</code></li>
          <li><code>condition IN ('good', 'fair')</code></li>
          <li><code>note LIKE '%rope%'</code> – <code>%</code> is any text</li>
          <li><code>CASEI(name) LIKE CASEI('north%')</code> – in any case</li>
          <li><code>depth BETWEEN 2 AND 6</code></li>
          <li><code>NOT (note IS NULL OR public = TRUE)</code></li>
          <li><code>checked &gt;= DATE('2026-04-01')</code></li>
          <li><code>S_WITHIN(geometry, ITEM('waters', 'ID'))</code> – in an area of another collection</li>
          <li><code>S_INTERSECTS(geometry, BBOX(-22.2, -38.6, -22, -38.4))</code> – west, south, east, north</li>
        </ul>
        <p
          >Text goes in single quotes, names with spaces or signs in double quotes: <code>"Height (m)" &gt; 3</code>.</p
        >
      </details>
      <ExportChoice
        v-if="opened"
        :collection="collection"
        label="Export what is in view as …"
        :name="`Export what is in view of ${collection.title}`"
        :box="box"
        :chosen="chosen"
      />
    </details>
    <button v-if="narrowed" type="button" class="reset" @click="reset">Show all places</button>
  </div>
</template>

<style scoped>
.entry {
  display: flex;
  align-items: center;
  gap: 0.55rem;
  padding: 0.12rem 0.25rem;
}
.filter {
  grid-column: 1 / -1;
  display: grid;
  gap: 0.3rem;
  min-width: 0;
}
ul {
  list-style: none;
  margin: 0;
  padding: 0;
}
.more {
  display: block;
}
.more[open] > * {
  display: block;
  width: 100%;
  margin-bottom: 0.3rem;
}
.legend {
  margin: 0.3rem 0;
  max-height: 40vh;
  overflow: auto;
}
.legend button {
  display: grid;
  grid-template-columns: auto 1fr auto;
  gap: 0.55rem;
  align-items: center;
  width: 100%;
  padding: 0.16rem 0.3rem;
  min-height: 24px;
  border: 0;
  border-radius: 6px;
  background: none;
  color: inherit;
  font: inherit;
  text-align: start;
  overflow-wrap: anywhere;
  cursor: pointer;
}
.legend button:hover {
  background: var(--rule);
}
.legend button[aria-pressed='false'] {
  color: var(--soft);
}
.legend button[aria-pressed='false'] .what {
  text-decoration: line-through;
}
.legend button[aria-pressed='false'] :deep(.mark) {
  filter: grayscale(1);
  opacity: 0.5;
}
.count,
.matched {
  color: var(--soft);
  font-variant-numeric: tabular-nums;
}
label,
summary,
details,
.matched,
.problem,
.reset {
  font-size: 0.88rem;
}
label {
  margin-top: 0.2rem;
  color: var(--soft);
}
summary {
  cursor: pointer;
  color: var(--soft);
}
details li {
  padding: 0.15rem 0;
}
details p {
  margin: 0.3rem 0 0;
}
code {
  overflow-wrap: anywhere;
}
.problem {
  margin: 0;
  color: var(--signal);
  overflow-wrap: anywhere;
}
.matched {
  margin: 0;
}
.reset {
  justify-self: start;
  padding: 0.3rem 0.6rem;
  border: 1px solid var(--rule);
  border-radius: 6px;
  background: none;
  color: inherit;
  font-family: inherit;
  cursor: pointer;
}
.reset:hover {
  background: var(--rule);
}
</style>
