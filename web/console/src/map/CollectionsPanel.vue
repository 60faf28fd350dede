<script setup lang="ts">
import type { Box, Density } from '@idlebeacon/map'
import InputText from 'primevue/inputtext'
import ToggleSwitch from 'primevue/toggleswitch'
import { storeToRefs } from 'pinia'
import { computed, ref } from 'vue'
import { RouterLink } from 'vue-router'
import type { Collection } from '../api/collections'
import { type Chosen, everything } from '../api/selection'
import Choice from '../parts/Choice.vue'
import Icon from '../parts/Icon.vue'
import { type Order, usePreferences } from '../stores/preferences'
import { useSession } from '../stores/session'
import type { Styled } from '../stores/styles'
import { counted } from '../text/format'
import PlaceFilter from './PlaceFilter.vue'

const props = defineProps<{
  collections: Collection[] | null
  off: string[]
  styles: ReadonlyMap<string, Styled>
  chosen: ReadonlyMap<string, Chosen>
  box: Box | null // in view
  densities: readonly Density[] // that are shaded
}>()
const emit = defineEmits<{ toggle: [ids: string[], on: boolean]; choose: [id: string, what: Chosen] }>()

const contents = (c: Collection) =>
  [
    ...(c.places > 0 || c.shapes === 0 ? [counted(c.places, 'place', 'places')] : []),
    ...(c.shapes > 0 ? [counted(c.shapes, 'shape', 'shapes')] : []),
  ].join(', ')

const orders: Record<Order, string> = {
  title: 'by title',
  changed: 'newest change first',
  count: 'largest first',
  own: 'in my order',
}

// Many collections: find some, in an order that one likes, in groups, and folded until wanted.
const many = 6 // from so many on
const sought = ref('')
const session = useSession()
const preferences = usePreferences()
const { order, own } = storeToRefs(preferences)
const unfolded = ref<string[]>([])

const fold = (text: string) => text.toLowerCase().normalize('NFKD').replace(/\p{M}/gu, '')
const found = computed(() =>
  (props.collections ?? []).filter((c) => fold(`${c.title} ${c.id}`).includes(fold(sought.value.trim()))),
)
const place = (id: string) => own.value.indexOf(id) + 1 || Infinity
const byTitle = (a: Collection, b: Collection) => a.title.localeCompare(b.title, undefined, { numeric: true })
const compare: Record<Order, (a: Collection, b: Collection) => number> = {
  title: byTitle,
  changed: (a, b) => (b.changed_at ?? '').localeCompare(a.changed_at ?? ''),
  count: (a, b) => b.count - a.count,
  own: (a, b) => (place(a.id) === place(b.id) ? byTitle(a, b) : place(a.id) - place(b.id)),
}

/** Collections whose titles begin alike, up to a colon or a slash, make a group. */
const groups = computed(() => {
  const sorted = [...found.value].sort(compare[order.value])
  const begin = (c: Collection) => /^(.+?)\s*[:/]\s/.exec(c.title)?.[1] ?? ''
  const sizes = new Map<string, number>()
  for (const c of sorted) sizes.set(begin(c), (sizes.get(begin(c)) ?? 0) + 1)
  const all = new Map<string, Collection[]>()
  for (const c of sorted) {
    const name = (sizes.get(begin(c)) ?? 0) > 1 ? begin(c) : ''
    all.set(name, [...(all.get(name) ?? []), c])
  }
  return [...all].map(([name, of]) => ({ name, of }))
})

function lift(c: Collection): void {
  const ids = groups.value.flatMap((g) => g.of.map((x) => x.id))
  const i = ids.indexOf(c.id)
  if (i > 0) ids.splice(i - 1, 0, ...ids.splice(i, 1))
  own.value = [...ids, ...own.value.filter((id) => !ids.includes(id))]
}
const open = (c: Collection) => (props.collections?.length ?? 0) < many || unfolded.value.includes(c.id)
function unfold(id: string): void {
  unfolded.value = unfolded.value.includes(id) ? unfolded.value.filter((x) => x !== id) : [...unfolded.value, id]
}
const switchAll = (of: readonly Collection[], on: boolean) =>
  emit(
    'toggle',
    of.map((c) => c.id),
    on,
  )
</script>

<template>
  <section aria-labelledby="collections-title">
    <h2 id="collections-title">Collections</h2>
    <div v-if="collections === null" aria-label="Loading the collections" role="status">
      <div class="wait" />
      <div class="wait" />
    </div>
    <div v-else-if="collections.length === 0" class="empty">
      <p v-if="session.owner"
        >There are no collections yet. <RouterLink :to="{ name: 'data' }">Import a file</RouterLink> to make the
        first.</p
      >
      <p v-else-if="session.guest"
        >There is nothing that guests may see.
        <button type="button" class="link" @click="session.asking = true">Sign in</button> to see more.</p
      >
      <p v-else>There is no collection that you may see. An owner can change that.</p>
    </div>
    <template v-else>
      <div v-if="collections.length >= many" class="tools">
        <InputText v-model="sought" size="small" placeholder="Find a collection" aria-label="Find a collection" />
        <Choice v-model="order" :options="orders" label="Order of the collections" />
        <span class="all">
          <button type="button" @click="switchAll(found, true)">All on</button>
          <button type="button" @click="switchAll(found, false)">All off</button>
        </span>
      </div>
      <p v-if="found.length === 0">No collection has this in its title.</p>
      <template v-for="g in groups" :key="g.name">
        <h3 v-if="g.name">
          {{ g.name }}
          <span class="all">
            <button type="button" :aria-label="`All of ${g.name} on`" @click="switchAll(g.of, true)">on</button>
            <button type="button" :aria-label="`All of ${g.name} off`" @click="switchAll(g.of, false)">off</button>
          </span>
        </h3>
        <ul>
          <li v-for="c in g.of" :key="c.id" :class="{ dim: off.includes(c.id) }">
            <label :for="`show-${c.id}`">
              <span class="title">{{ c.title }}</span>
              <span class="count">{{ contents(c) }}</span>
            </label>
            <span class="switch">
              <button
                v-if="order === 'own' && collections.length >= many"
                type="button"
                class="lift"
                :aria-label="`${c.title} before the one above`"
                @click="lift(c)"
              >
                <Icon name="arrow-up" />
              </button>
              <button
                v-if="collections.length >= many && c.count > 0 && !off.includes(c.id)"
                type="button"
                class="lift"
                :aria-expanded="open(c)"
                :aria-label="`Legend and filter of ${c.title}`"
                title="Legend and filter"
                @click="unfold(c.id)"
              >
                <Icon :name="open(c) ? 'chevron-up' : 'chevron-down'" />
              </button>
              <ToggleSwitch
                :input-id="`show-${c.id}`"
                :model-value="!off.includes(c.id)"
                @update:model-value="(on: boolean) => emit('toggle', [c.id], on)"
              />
            </span>
            <PlaceFilter
              v-if="c.count > 0 && !off.includes(c.id) && open(c)"
              :collection="c"
              :styled="styles.get(c.id)"
              :chosen="chosen.get(c.id) ?? everything"
              :box="box"
              :density="densities.find((d) => d.layer === c.id)"
              @choose="(what: Chosen) => emit('choose', c.id, what)"
            />
          </li>
        </ul>
      </template>
    </template>
  </section>
</template>

<style scoped>
section {
  padding: 0.9rem;
}
h2 {
  font-size: 0.95rem;
  margin-bottom: 0.6rem;
}
ul {
  list-style: none;
  margin: 0;
  padding: 0;
}
section ul > li {
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
.count {
  color: var(--soft);
  font-variant-numeric: tabular-nums;
}
.dim .title {
  color: var(--soft);
}
.empty p {
  margin-bottom: 0.6rem;
  line-height: 1.45;
}
.tools {
  display: grid;
  grid-template-columns: 1fr;
  gap: 0.4rem;
  margin-bottom: 0.6rem;
}
h3 {
  display: flex;
  justify-content: space-between;
  margin: 0.8rem 0 0.2rem;
  font-size: 0.88rem;
  color: var(--soft);
}
.all {
  display: flex;
  gap: 0.3rem;
}
.all button,
.lift {
  padding: 0.15rem 0.5rem;
  border: 1px solid var(--rule);
  border-radius: 6px;
  background: none;
  color: inherit;
  font: inherit;
  font-size: 0.85rem;
  cursor: pointer;
}
.switch {
  display: flex;
  align-items: center;
  gap: 0.4rem;
}
.wait {
  height: 2.2rem;
  margin-bottom: 0.5rem;
  border-radius: 6px;
  background: var(--rule);
}
</style>
