<script setup lang="ts">
import { type Look, noCategory, type PlacedMarker } from '@idlebeacon/map'
import { computed, nextTick, ref, watch } from 'vue'
import { type Collection, fetchItem, fetchItemsIn, type Item } from './api/client'
import CategoryMark from './CategoryMark.vue'

// What the popup shows: a place with its properties, or a list to choose from where places share a spot.
const props = defineProps<{ placed: PlacedMarker; collection: Collection; looks: ReadonlyMap<string, Look> }>()
const emit = defineEmits<{ close: []; resized: [] }>()

const mostListed = 50

const items = ref<Item[]>([])
const matched = ref(0)
const chosen = ref<Item | null>(null)
const problem = ref<string | null>(null)
const loading = ref(true)

watch(
  () => props.placed,
  async (placed, _old, onCleanup) => {
    const request = new AbortController()
    onCleanup(() => request.abort())
    loading.value = true
    problem.value = null
    chosen.value = null
    items.value = []
    try {
      if (placed.marker.count === 1) {
        chosen.value = await fetchItem(props.collection.id, placed.marker.id, request.signal)
      } else if (placed.marker.extent) {
        const page = await fetchItemsIn(props.collection.id, placed.marker.extent, mostListed, request.signal)
        items.value = page.items
        matched.value = page.matched
      }
    } catch (e) {
      if (request.signal.aborted) return
      problem.value = e instanceof TypeError ? 'The service does not answer, so the details cannot be shown.' : (e as Error).message
    }
    loading.value = false
  },
  { immediate: true },
)
watch([chosen, items, problem, loading], () => void nextTick(() => emit('resized')))

const text = (item: Item | null, property: string): string => {
  const value = property ? (item?.properties as Record<string, unknown> | undefined)?.[property] : undefined
  return typeof value === 'string' || typeof value === 'number' || typeof value === 'boolean' ? String(value) : ''
}
const name = computed(() => text(chosen.value, props.collection.name_property) || props.placed.marker.name || chosen.value?.id || props.placed.marker.id)
const category = computed(() => text(chosen.value, props.collection.category_property) || props.placed.marker.category)

/** The other properties, in their own order; those without a value are left out. */
const rest = computed(() =>
  Object.entries((chosen.value?.properties ?? {}) as Record<string, unknown>)
    .filter(([key, value]) => key !== props.collection.name_property && key !== props.collection.category_property && value !== null && value !== '')
    .map(([key, value]) => [key, typeof value === 'object' ? JSON.stringify(value) : String(value)] as const),
)
</script>

<template>
  <article class="details">
    <button type="button" class="close" aria-label="Close" @click="emit('close')"><i class="pi pi-times" aria-hidden="true" /></button>
    <template v-if="placed.marker.count > 1 && !chosen">
      <h3>{{ placed.marker.count }} places at one spot</h3>
      <p v-if="loading" role="status">Loading …</p>
      <ul v-else class="choices">
        <li v-for="item in items" :key="item.id">
          <button type="button" @click="chosen = item">
            <CategoryMark :look="looks.get(text(item, collection.category_property)) ?? noCategory" />
            {{ text(item, collection.name_property) || item.id }}
          </button>
        </li>
      </ul>
      <p v-if="matched > items.length" class="soft">and {{ matched - items.length }} more</p>
    </template>
    <template v-else>
      <h3>{{ name }}</h3>
      <p v-if="category" class="category"><CategoryMark :look="looks.get(category) ?? noCategory" />{{ category }}</p>
      <p v-if="loading" role="status">Loading …</p>
      <dl v-if="rest.length > 0">
        <template v-for="[key, value] in rest" :key="key">
          <dt>{{ key }}</dt>
          <dd dir="auto">{{ value }}</dd>
        </template>
      </dl>
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
  background: none;
  color: inherit;
  cursor: pointer;
}
.close:hover {
  background: var(--rule);
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
.choices {
  list-style: none;
  margin: 0.4rem 0 0;
  padding: 0;
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
.soft {
  color: var(--soft);
}
.problem {
  color: var(--signal);
}
</style>
