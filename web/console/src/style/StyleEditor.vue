<script setup lang="ts">
import {
  type IdleMap,
  Looks,
  type MarkerSource,
  type Pick,
  type PlacedMarker,
  type Style,
  type View,
} from '@idlebeacon/map'
import Button from 'primevue/button'
import Message from 'primevue/message'
import { computed, onMounted, ref, shallowRef, useTemplateRef, watch } from 'vue'
import {
  type Collection,
  everything,
  fetchBackdrop,
  fetchItems,
  fetchLegend,
  fetchMarkers,
  fetchShapes,
  fetchTaggedStyle,
  type Item,
  type Legend,
  ProblemError,
  saveStyle,
  type StyleText,
} from '../api/client'
import LegendMark from '../LegendMark.vue'
import PlaceDetails from '../PlaceDetails.vue'
import { needIcons } from '../useStyles'
import LineFields from './LineFields.vue'
import LookFields from './LookFields.vue'
import NumberFields from './NumberFields.vue'
import { openingView } from './openingView'
import { propertiesOf, type Property } from './properties'
import TellingFields from './TellingFields.vue'

// How a collection is drawn and what its popups show, by hand or as its document. The small map shows at once what is
// being made, with its legend and popups; it is kept when saved.
const props = defineProps<{ collection: Collection }>()
const emit = defineEmits<{ saved: [] }>()

const map = useTemplateRef<IdleMap>('map')
const draft = shallowRef<StyleText | null>(null)
const past = shallowRef<StyleText[]>([]) // for undo, the newest last
const saved = ref('') // as the service has it, in JSON
let tag = '*' // of that
const overtaken = shallowRef<(() => void) | null>(null) // what was to be kept when somebody else had been there first, to do it nevertheless
const text = ref('') // the document as it stands in the editor
const problem = ref<string | null>(null) // with what was asked
const refused = ref<string | null>(null) // what the service says against the draft
const warnings = shallowRef<readonly { field: string; reason: string }[]>([]) // what of the style as it is kept does nothing
const properties = shallowRef<Property[]>([])
const legend = shallowRef<Legend | null>(null)
const opened = shallowRef<PlacedMarker | null>(null) // what the popup shows
const start = shallowRef<View | null>(null) // what the small map shows first

const looks = computed(() => draft.value && new Looks(draft.value as Style))
const changed = computed(() => draft.value !== null && JSON.stringify(draft.value) !== saved.value)
const categories = computed(() => props.collection.categories.map((k) => k.category))
const explained = (e: unknown) => (e instanceof ProblemError ? e.message : 'The service does not answer.')

async function load(): Promise<void> {
  try {
    const found = await fetchTaggedStyle(props.collection.id)
    const { proposed: _, warnings: idle, ...style } = found.style
    warnings.value = idle
    await needIcons(style)
    for (const k of props.collection.categories) {
      if (k.category && !style.categories?.some((c) => c.value === k.category))
        style.categories = [...(style.categories ?? []), { value: k.category }]
    }
    tag = found.tag
    saved.value = JSON.stringify(style)
    draft.value = style
    problem.value = overtaken.value = null
  } catch (e) {
    problem.value = explained(e)
  }
}
onMounted(async () => {
  void load()
  // Some items from all over the collection: what is alike often has ids that are alike.
  const items: Item[] = []
  const firsts: Item[] = [] // of each part
  for (const part of [0, 0.2, 0.4, 0.6, 0.8]) {
    const offset = Math.floor(part * props.collection.count)
    const page = await fetchItems(props.collection.id, '', '', offset, 40, new AbortController().signal).catch(
      () => null,
    ) // the document can be edited without
    items.push(...(page?.items ?? []))
    firsts.push(...(page?.items.filter((i) => i.geometry.type === 'Point').slice(0, 1) ?? []))
  }
  properties.value = propertiesOf(items)
  start.value = await openingView(props.collection.id, firsts)
})

watch(draft, (now) => (text.value = now ? JSON.stringify(now, null, 2) : ''))
watch([draft, map], () => {
  if (!map.value || !looks.value || !draft.value) return
  const c = props.collection
  const tried = draft.value
  const source: MarkerSource = {
    id: 'draft',
    looks: looks.value,
    load: (box, zoom, signal) => fetchMarkers(c.id, box, zoom, everything, categories.value, signal, tried),
    ...(c.shapes > 0 && {
      shapes: (box, zoom, signal) => fetchShapes(c.id, box, zoom, everything, categories.value, signal, tried),
    }),
  }
  map.value.hidePopup()
  map.value.sources = [source]
  void key(tried)
})

/** The legend of the draft, which also tells whether the service would take it. */
async function key(tried: StyleText): Promise<void> {
  try {
    const found = await fetchLegend(props.collection.id, tried)
    if (tried !== draft.value) return
    legend.value = found
    refused.value = null
  } catch (e) {
    if (tried === draft.value) refused.value = explained(e).replace(/^style: /, '')
  }
}
watch([map, start], () => {
  if (map.value && start.value) map.value.view = start.value
})
watch(map, async () => {
  const [west, south, east, north] = props.collection.extent?.spatial.bbox[0] ?? []
  if (west !== undefined && south !== undefined && east !== undefined && north !== undefined && !start.value)
    map.value?.fit({ west, south, east, north }, false)
  const land = await fetchBackdrop().catch(() => null) // the map is right without
  if (map.value && land) map.value.backdrop = land
})

function picked(e: Event): void {
  const { placed } = (e as CustomEvent<Pick>).detail
  const { count, extent, opensAt } = placed.marker
  if (count > 1 && opensAt !== null && extent) {
    map.value?.fit(extent)
    return
  }
  opened.value = placed
  requestAnimationFrame(() => map.value?.showPopup(placed))
}

function change(next: StyleText): void {
  if (draft.value) past.value = [...past.value, draft.value]
  draft.value = next
}
function undo(): void {
  const last = past.value.at(-1)
  if (!last) return
  past.value = past.value.slice(0, -1)
  draft.value = last
}
function applyText(): void {
  try {
    change({ default: {}, ...(JSON.parse(text.value) as StyleText) })
    problem.value = null
  } catch (e) {
    problem.value = `The document is not valid JSON: ${(e as Error).message}`
  }
}
async function keep(style: StyleText | null, over = tag): Promise<void> {
  try {
    await saveStyle(props.collection.id, style, over)
    past.value = []
    await load()
    emit('saved')
  } catch (e) {
    problem.value = explained(e)
    overtaken.value = e instanceof ProblemError && e.status === 412 ? () => void keep(style, '*') : null
  }
}
const save = () => keep(draft.value ?? {})
const reset = () => keep(null)

/** Goes on from what somebody else has saved; undo brings back what was here. */
async function takeTheirs(): Promise<void> {
  if (draft.value) past.value = [...past.value, draft.value]
  await load()
}
const list = (names: readonly string[]) =>
  names.slice(0, 12).join(', ') + (names.length > 12 ? ` and ${names.length - 12} more` : '')
</script>

<template>
  <div class="editor">
    <Message v-if="overtaken" severity="warn" class="problem">
      Somebody else has changed the style meanwhile.
      <Button label="Go on from theirs" size="small" @click="takeTheirs" />
      <Button label="Save mine in its place" size="small" severity="secondary" @click="overtaken()" />
    </Message>
    <Message v-else-if="problem ?? refused" severity="error" class="problem">{{ problem ?? refused }}</Message>
    <Message v-for="w in changed ? [] : warnings" :key="w.field" severity="warn" class="problem"
      >{{ w.field }}: {{ w.reason }}.</Message
    >
    <div v-if="draft && looks" class="sides">
      <div class="fields">
        <details open>
          <summary>Icons and colours</summary>
          <LookFields :draft="draft" :looks="looks" :collection="collection" @change="change" />
        </details>
        <details>
          <summary>Size and colour by a number</summary>
          <NumberFields :draft="draft" :properties="properties" @change="change" />
        </details>
        <details>
          <summary>Lines, areas and circles</summary>
          <LineFields :draft="draft" :properties="properties" @change="change" />
        </details>
        <details>
          <summary>On the map</summary>
          <TellingFields :draft="draft" :properties="properties" part="map" @change="change" />
        </details>
        <details>
          <summary>Popup</summary>
          <TellingFields :draft="draft" :properties="properties" part="popup" @change="change" />
        </details>
        <details>
          <summary>The whole style as a document</summary>
          <textarea v-model="text" rows="14" spellcheck="false" aria-label="Style document" />
          <Button label="Use this" size="small" severity="secondary" @click="applyText" />
        </details>
      </div>
      <div class="tried">
        <idle-map ref="map" class="preview" @pick="picked" @popupclose="opened = null">
          <PlaceDetails
            v-if="opened"
            slot="popup"
            :placed="opened"
            :collection="collection"
            :styled="{ looks }"
            :zoom="map?.view.zoom ?? 0"
            :chosen="everything"
            :draft="draft"
            @close="map?.hidePopup()"
            @resized="map?.popupChanged()"
          />
        </idle-map>
        <ul v-if="legend" class="legend" aria-label="Legend of the draft">
          <li v-for="e in legend.entries" :key="e.kind + e.label"
            ><LegendMark :entry="e" :lines="collection.places === 0" /> {{ e.label }}</li
          >
        </ul>
        <p v-if="legend && legend.unstyled.length > 0" role="status"
          >Without a look of their own: {{ list(legend.unstyled) }}</p
        >
        <p v-if="legend && legend.unused.length > 0" role="status">Without data: {{ list(legend.unused) }}</p>
      </div>
    </div>
    <div class="actions">
      <Button label="Save" icon="pi pi-check" size="small" :disabled="!changed || refused !== null" @click="save" />
      <Button
        label="Undo"
        icon="pi pi-undo"
        size="small"
        severity="secondary"
        :disabled="past.length === 0"
        @click="undo"
      />
      <Button label="Propose anew from the categories" size="small" severity="secondary" text @click="reset" />
      <span v-if="changed" role="status">Not saved yet</span>
    </div>
  </div>
</template>

<style scoped>
.editor {
  flex-basis: 100%;
  min-width: 0;
}
.problem {
  margin-bottom: 0.5rem;
}
.sides {
  display: grid;
  grid-template-columns: minmax(0, 3fr) minmax(0, 2fr);
  gap: 1rem;
  align-items: start;
}
.fields {
  min-width: 0;
}
.tried {
  position: sticky;
  top: 0;
}
.tried p {
  font-size: 0.88rem;
  color: var(--soft);
}
.preview {
  display: block;
  height: 380px;
  border: 1px solid var(--rule);
  border-radius: 6px;
}
.legend {
  display: flex;
  flex-wrap: wrap;
  gap: 0.2rem 1rem;
  list-style: none;
  margin: 0.5rem 0;
  padding: 0;
  font-size: 0.88rem;
}
.legend li {
  display: flex;
  align-items: center;
  gap: 0.4rem;
}
.actions {
  display: flex;
  flex-wrap: wrap;
  align-items: center;
  gap: 0.6rem;
  margin-top: 0.6rem;
}
.fields :deep(summary) {
  padding: 0.3rem 0;
  font-weight: 600;
  cursor: pointer;
}
.fields :deep(details) {
  border-bottom: 1px solid var(--rule);
  padding-bottom: 0.4rem;
}
.fields :deep(h4) {
  margin: 0.5rem 0 0.2rem;
  font-size: 0.88rem;
}
.fields :deep(table) {
  border-collapse: collapse;
  font-size: 0.9rem;
}
.fields :deep(caption) {
  text-align: start;
  color: var(--soft);
  font-size: 0.88rem;
}
.fields :deep(th),
.fields :deep(td) {
  padding: 0.15rem 0.35rem;
  text-align: start;
  font-weight: normal;
  overflow-wrap: anywhere;
}
.fields :deep(.count) {
  color: var(--soft);
}
.fields :deep(.row) {
  display: flex;
  flex-wrap: wrap;
  align-items: center;
  gap: 0.35rem 0.7rem;
  margin: 0.3rem 0;
  font-size: 0.9rem;
}
.fields :deep(select),
.fields :deep(input[type='text']),
.fields :deep(input[type='number']),
.fields :deep(textarea) {
  padding: 0.2rem 0.3rem;
  border: 1px solid var(--rule);
  border-radius: 5px;
  background: var(--card);
  color: inherit;
  font: inherit;
}
.fields :deep(input[type='text']) {
  width: 8rem;
}
.fields :deep(input[type='text'].wide) {
  width: 16rem;
  max-width: 100%;
}
.fields :deep(input[type='text'].short) {
  width: 4rem;
}
.fields :deep(input[type='number']) {
  width: 4.5rem;
}
.fields :deep(input[type='color']) {
  width: 2.2rem;
  height: 1.7rem;
  padding: 0;
  border: 0;
  background: none;
}
.fields :deep(select) {
  max-width: 14rem;
}
.fields :deep(textarea) {
  width: 100%;
  box-sizing: border-box;
  font-family: ui-monospace, 'DejaVu Sans Mono', monospace;
  font-size: 0.8rem;
}
.fields :deep(.tools) {
  white-space: nowrap;
}
.fields :deep(.tools button),
.fields :deep(.row > button) {
  padding: 0.15rem 0.3rem;
  border: 0;
  background: none;
  color: inherit;
  cursor: pointer;
}
.fields :deep(.tools button:disabled) {
  opacity: 0.3;
}
.fields :deep(button.add) {
  margin-top: 0.3rem;
  padding: 0.2rem 0.5rem;
  border: 1px solid var(--rule);
  border-radius: 5px;
  background: none;
  color: inherit;
  font: inherit;
  font-size: 0.9rem;
  cursor: pointer;
}
@media (max-width: 760px) {
  .sides {
    grid-template-columns: minmax(0, 1fr);
  }
  .tried {
    position: static;
  }
  .fields :deep(table) {
    display: block;
    max-width: 100%;
    overflow-x: auto;
  }
}
</style>
