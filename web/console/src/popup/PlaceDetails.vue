<script setup lang="ts">
import type { Looks, Picked, StackedPlace } from '@idlebeacon/map'
import { computed, nextTick, onActivated, onDeactivated, onUnmounted, ref, watch } from 'vue'
import { RouterLink } from 'vue-router'
import { explain, ServiceError } from '../api/explain'
import { fetchPopup, type PopupContent, popupPath } from '../api/items'
import { fetchMembersOf, type Layer } from '../api/layers'
import { follow } from '../api/live'
import { inSize } from '../api/pictures'
import type { StyleDocument } from '../api/styles'
import CategoryMark from '../parts/CategoryMark.vue'
import Icon from '../parts/Icon.vue'
import { useCollections } from '../stores/collections'
import { useSession } from '../stores/session'
import { withID } from '../text/condition'
import { written } from '../text/fields'

// What the popup shows: a place with its properties, or a list to choose from if places share a spot.
const props = defineProps<{
  picked: Picked
  layers: readonly Layer[] // what the map shows
  looksOf: (collection: string) => Looks
  zoom: number
  draft?: StyleDocument | undefined // a style that is being tried
}>()
const emit = defineEmits<{ close: []; resized: []; gone: [name: string]; edit: [collection: string, item: string] }>()

const session = useSession()
const store = useCollections()
const listed = ref<StackedPlace[]>([]) // of the places that share a spot
const collection = ref('') // that what is shown is of
const chosen = ref<PopupContent | null>(null)
const problem = ref<string | null>(null)
const loading = ref(false)
let request = new AbortController()

/** Runs what fetches, and says so if it fails. */
async function fetching(work: (signal: AbortSignal) => Promise<void>): Promise<void> {
  request.abort()
  const mine = (request = new AbortController())
  loading.value = true
  problem.value = null
  try {
    await work(mine.signal)
  } catch (e) {
    if (mine.signal.aborted) return
    problem.value = `The details cannot be shown. ${explain(e)}`
  }
  if (!mine.signal.aborted) loading.value = false
}

/** A place is of the collection that it says, or of the only one. */
const collectionOf = (layer: string | undefined) => layer ?? props.layers[0]?.collection ?? ''

function open({ id, layer }: { id: string; layer?: string }): Promise<void> {
  collection.value = collectionOf(layer)
  return fetching(async (signal) => {
    chosen.value = await fetchPopup(collection.value, id, props.draft, signal)
    if (!props.draft) follow(popupPath(collection.value, id), () => void again(id, signal), signal)
  })
}

let shown = true // the page of the map, which goes on while another is
onActivated(() => (shown = true))
onDeactivated(() => (shown = false))

/** Shows what others have made of the place, or says that it is gone. */
async function again(id: string, signal: AbortSignal): Promise<void> {
  try {
    chosen.value = await fetchPopup(collection.value, id, undefined, signal)
  } catch (e) {
    if (shown && e instanceof ServiceError && e.status === 404) emit('gone', name.value)
  }
}

const more = () =>
  fetching(async (signal) => {
    const last = listed.value.at(-1)
    const after = last && { ...last, layer: collectionOf(last.layer) }
    const found = await fetchMembersOf(props.layers, props.picked.marker, props.zoom, after, signal)
    listed.value = [...listed.value, ...found]
  })

watch(
  () => props.picked,
  (picked) => {
    chosen.value = null
    listed.value = [...picked.marker.stacked]
    collection.value = collectionOf(picked.marker.layer)
    if (picked.marker.count === 1) void open(picked.marker)
  },
  { immediate: true },
)
onUnmounted(() => request.abort())
watch([chosen, listed, problem, loading], () => void nextTick(() => emit('resized')))

const name = computed(
  () => chosen.value?.title || props.picked.marker.name || chosen.value?.id || props.picked.marker.id,
)
const category = computed(() => chosen.value?.category || props.picked.marker.category)
const shownPicture = ref(0)
const several = computed(() => chosen.value?.images ?? [])
const picture = computed(() => several.value[shownPicture.value] ?? chosen.value?.image ?? null)
watch(chosen, () => (shownPicture.value = 0))
const mayEdit = computed(() => {
  const of = store.find(collection.value)
  return of !== undefined && session.works(of)
})
const pictureFailed = ref(false)
watch(picture, () => (pictureFailed.value = false))
const inTable = (id: string) => ({
  name: 'collection',
  params: { collection: collection.value, part: 'items' },
  query: { filter: withID(id) },
})
const elsewhere = (href: string) => (href.startsWith('http') ? '_blank' : '_self')
</script>

<template>
  <article class="details">
    <button type="button" class="close" aria-label="Close" @click="emit('close')"><Icon name="x" /></button>
    <template v-if="picked.marker.count > 1 && !chosen">
      <h3>{{ picked.marker.count }} places at one spot</h3>
      <ul class="choices">
        <li v-for="place in listed" :key="`${place.layer}/${place.id}`">
          <button type="button" @click="open(place)">
            <CategoryMark :look="looksOf(collectionOf(place.layer)).of(place.category)" />
            {{ place.name || place.id }}
          </button>
        </li>
      </ul>
      <p v-if="loading" role="status">Loading …</p>
      <p v-else-if="picked.marker.count > listed.length" class="more">
        <button type="button" @click="more">Show more ({{ picked.marker.count - listed.length }} left)</button>
      </p>
    </template>
    <template v-else>
      <button v-if="picked.marker.count > 1" type="button" class="back" @click="chosen = null">
        <Icon name="arrow-left" /> All {{ picked.marker.count }} places
      </button>
      <a v-if="picture && !pictureFailed" :href="inSize(picture, 'large')" target="_blank" rel="noopener noreferrer">
        <img
          :src="inSize(picture, 'medium')"
          :alt="several.length > 1 ? `Picture ${shownPicture + 1} of ${several.length}` : 'Picture'"
          class="picture"
          @error="pictureFailed = true"
          @load="emit('resized')"
        />
      </a>
      <p v-if="several.length > 1" class="several">
        <button
          v-for="(p, i) in several"
          :key="p"
          type="button"
          :aria-label="`Picture ${i + 1}`"
          :aria-pressed="i === shownPicture"
          @click="shownPicture = i"
          ><img :src="inSize(p, 'small')" alt=""
        /></button>
      </p>
      <h3 dir="auto">{{ name }}</h3>
      <p v-if="chosen?.subtitle" class="subtitle" dir="auto">{{ chosen.subtitle }}</p>
      <p v-if="category" class="category"
        ><CategoryMark :look="looksOf(collection).of(category, picked.marker.drawing)" />{{ category }}</p
      >
      <p v-if="loading" role="status">Loading …</p>
      <template v-if="chosen">
        <dl v-if="chosen.fields.length > 0">
          <template v-for="f in chosen.fields" :key="f.property">
            <dt>{{ f.label }}</dt>
            <dd dir="auto">
              <a v-if="f.href" :href="f.href" :target="elsewhere(f.href)" rel="noopener noreferrer">{{ f.text }}</a>
              <!-- The service has taken out of it what is not safe. -->
              <div v-else-if="f.html !== undefined" class="html" v-html="f.html" />
              <template v-else>{{ written(f) }}</template>
            </dd>
          </template>
        </dl>
        <p class="actions">
          <a
            v-for="a in chosen.actions"
            :key="a.label"
            :href="a.href"
            :target="elsewhere(a.href)"
            rel="noopener noreferrer"
            class="action"
            >{{ a.label }}</a
          >
          <template v-if="!draft">
            <button v-if="mayEdit" type="button" class="back" @click="emit('edit', collection, chosen.id)">{{
              session.edits ? 'Edit' : 'Suggest a change'
            }}</button>
            <RouterLink :to="inTable(chosen.id)" class="back">Show in table</RouterLink>
          </template>
        </p>
      </template>
    </template>
    <p v-if="problem" role="alert" class="problem">{{ problem }}</p>
  </article>
</template>

<style scoped>
.details {
  position: relative;
  padding: 0.8rem 1rem;
  min-width: 200px;
  font-size: 0.93rem;
}
h3 {
  font-size: 1.02rem;
  padding-right: 1.8rem;
  overflow-wrap: anywhere;
}
.close {
  position: absolute;
  top: 0.4rem;
  right: 0.4rem;
  width: 2rem;
  height: 2rem;
  border: 0;
  border-radius: 6px;
  background: color-mix(in srgb, var(--card) 75%, transparent);
  color: inherit;
  cursor: pointer;
}
.close:hover {
  background: var(--rule);
}
.picture {
  display: block;
  width: calc(100% + 2rem);
  height: 130px;
  margin: -0.8rem -1rem 0.7rem;
  object-fit: cover;
}
.several {
  display: flex;
  gap: 0.3rem;
  margin: -0.3rem 0 0.6rem;
  overflow-x: auto;
}
.several button {
  flex: none;
  padding: 2px;
  border: 2px solid transparent;
  border-radius: 6px;
  background: none;
  cursor: pointer;
}
.several [aria-pressed='true'] {
  border-color: var(--signal);
}
.several img {
  display: block;
  width: 44px;
  height: 34px;
  object-fit: cover;
  border-radius: 3px;
}
.subtitle {
  color: var(--soft);
  overflow-wrap: anywhere;
}
.category {
  display: flex;
  align-items: center;
  gap: 0.45rem;
  margin: 0.35rem 0 0.6rem;
}
dl {
  display: grid;
  grid-template-columns: minmax(70px, auto) 1fr;
  gap: 0.25rem 0.9rem;
  margin: 0;
}
dt {
  color: var(--soft);
  overflow-wrap: anywhere;
}
dd {
  margin: 0;
  overflow-wrap: anywhere;
  white-space: pre-line;
}
.html {
  white-space: normal;
}
.html :deep(p),
.html :deep(ul),
.html :deep(ol) {
  margin: 0 0 0.3rem;
}
.html :deep(ul),
.html :deep(ol) {
  padding-inline-start: 1.1rem;
}
.actions {
  display: flex;
  flex-wrap: wrap;
  align-items: center;
  gap: 0.3rem 0.6rem;
  margin-top: 0.6rem;
}
.action {
  padding: 0.25rem 0.7rem;
  border: 1px solid var(--rule);
  border-radius: 6px;
  text-decoration: none;
  overflow-wrap: anywhere;
}
.action:hover {
  background: var(--rule);
}
.choices {
  list-style: none;
  margin: 0.4rem 0 0;
  padding: 0;
}
.more button,
.back {
  padding: 0.35rem 0.3rem;
  border: 0;
  border-radius: 6px;
  background: none;
  color: inherit;
  font: inherit;
  text-decoration: underline;
  cursor: pointer;
}
.choices button {
  display: flex;
  align-items: center;
  gap: 0.5rem;
  width: 100%;
  padding: 0.35rem 0.3rem;
  border: 0;
  border-radius: 6px;
  background: none;
  color: inherit;
  font: inherit;
  text-align: start;
  cursor: pointer;
}
.choices button:hover {
  background: var(--rule);
}
.problem {
  color: var(--signal);
}
</style>
