<script setup lang="ts">
import type { Box } from '@idlebeacon/map'
import Skeleton from 'primevue/skeleton'
import ToggleSwitch from 'primevue/toggleswitch'
import { type Chosen, type Collection, everything } from './api/client'
import PlaceFilter from './PlaceFilter.vue'
import type { Styled } from './useStyles'

defineProps<{
  collections: Collection[] | null
  off: string[]
  styles: ReadonlyMap<string, Styled>
  chosen: Map<string, Chosen>
  box: Box | null // in view
}>()
const emit = defineEmits<{ toggle: [id: string, on: boolean]; choose: [id: string, what: Chosen] }>()

const counted = (n: number, one: string, many: string) => `${n.toLocaleString('en')} ${n === 1 ? one : many}`
const contents = (c: Collection) =>
  [...(c.places > 0 || c.shapes === 0 ? [counted(c.places, 'place', 'places')] : []), ...(c.shapes > 0 ? [counted(c.shapes, 'shape', 'shapes')] : [])].join(', ')
</script>

<template>
  <section aria-labelledby="collections-title">
    <h2 id="collections-title">Collections</h2>
    <div v-if="collections === null" aria-label="Loading the collections" role="status">
      <Skeleton height="2.2rem" class="wait" />
      <Skeleton height="2.2rem" class="wait" />
    </div>
    <div v-else-if="collections.length === 0" class="empty">
      <p>There are no collections yet. Import a file of places, CSV or GeoJSON, on the command line:</p>
      <p><code>idlebeacon import places.csv<br />&nbsp;&nbsp;--into places</code></p>
    </div>
    <ul v-else>
      <li v-for="c in collections" :key="c.id" :class="{ dim: off.includes(c.id) }">
        <label :for="`show-${c.id}`">
          <span class="title">{{ c.title }}</span>
          <span class="count">{{ contents(c) }}</span>
        </label>
        <ToggleSwitch
          :input-id="`show-${c.id}`"
          :model-value="!off.includes(c.id)"
          @update:model-value="(on: boolean) => emit('toggle', c.id, on)"
        />
        <PlaceFilter
          v-if="c.count > 0 && !off.includes(c.id)"
          :collection="c"
          :styled="styles.get(c.id)"
          :chosen="chosen.get(c.id) ?? everything"
          :box="box"
          @choose="(what: Chosen) => emit('choose', c.id, what)"
        />
      </li>
    </ul>
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
section > ul > li {
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
.wait {
  margin-bottom: 0.5rem;
}
</style>
