<script setup lang="ts">
import type { Box } from '@idlebeacon/map'
import Button from 'primevue/button'
import { computed } from 'vue'
import type { Collection } from '../api/collections'
import { boxOf } from '../api/selection'
import ExportChoice from '../parts/ExportChoice.vue'
import Icon from '../parts/Icon.vue'
import { counted, momentText } from '../text/format'

// One collection in the list, with what can be done with it. Its slot is what is open of it.
const props = defineProps<{
  collection: Collection
  opened: 'items' | 'style' | 'schema' | null
  manageable: boolean
}>()
const emit = defineEmits<{ open: [part: 'items' | 'style' | 'schema']; show: [box: Box | null]; remove: [] }>()

const box = computed(() => boxOf(props.collection.extent?.spatial.bbox[0]))

const degrees = (v: number, positive: string, negative: string) =>
  `${Math.abs(v).toFixed(3)}° ${v < 0 ? negative : positive}`

const contents = computed(() => {
  const b = box.value
  if (!b) return 'nothing in it yet'
  const { places, shapes } = props.collection
  const what = [
    ...(places > 0 ? [counted(places, 'place', 'places')] : []),
    ...(shapes > 0 ? [counted(shapes, 'shape', 'shapes')] : []),
  ].join(', ')
  const lat = `${degrees(b.south, 'N', 'S')} to ${degrees(b.north, 'N', 'S')}`
  return `${what} · ${lat}, ${degrees(b.west, 'E', 'W')} to ${degrees(b.east, 'E', 'W')}`
})
</script>

<template>
  <li :id="`data-${collection.id}`">
    <div class="what">
      <b>{{ collection.title }}</b> <code>{{ collection.id }}</code>
      <p>
        {{ contents }}
        <template v-if="collection.changed_at">· changed {{ momentText(collection.changed_at) }}</template>
      </p>
    </div>
    <div class="actions">
      <Button
        label="Show on map"
        size="small"
        severity="secondary"
        :disabled="!collection.extent"
        @click="emit('show', box)"
      >
        <template #icon><Icon name="map" /></template>
      </Button>
      <Button
        label="Items"
        size="small"
        severity="secondary"
        :aria-expanded="opened === 'items'"
        @click="emit('open', 'items')"
      >
        <template #icon><Icon name="table" /></template>
      </Button>
      <Button
        v-if="manageable"
        label="Style"
        size="small"
        severity="secondary"
        :aria-expanded="opened === 'style'"
        @click="emit('open', 'style')"
      >
        <template #icon><Icon name="palette" /></template>
      </Button>
      <Button
        v-if="manageable"
        label="Properties"
        title="What items have to be"
        size="small"
        severity="secondary"
        :aria-expanded="opened === 'schema'"
        @click="emit('open', 'schema')"
      >
        <template #icon><Icon name="check" /></template>
      </Button>
      <ExportChoice class="export" :collection label="Export as …" :name="`Export ${collection.title}`" />
      <Button
        v-if="manageable"
        size="small"
        severity="secondary"
        text
        :aria-label="`Delete ${collection.title}`"
        :title="`Delete ${collection.title}`"
        @click="emit('remove')"
      >
        <Icon name="trash" />
      </Button>
    </div>
    <slot />
  </li>
</template>

<style scoped>
li {
  display: flex;
  flex-wrap: wrap;
  align-items: center;
  gap: 0.5rem 1rem;
  padding: 0.7rem 1rem;
  border: 1px solid var(--rule);
  border-radius: 10px;
  background: var(--card);
}
.what {
  flex: 1 1 320px;
  min-width: 0;
  overflow-wrap: anywhere;
}
.what p {
  color: var(--soft);
  font-size: 0.88rem;
}
.actions {
  display: flex;
  flex-wrap: wrap;
  align-items: center;
  gap: 0.4rem;
}
.export {
  width: 10rem;
}
</style>
