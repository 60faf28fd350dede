<script setup lang="ts">
import type { IdleMap, MarkerSource } from '@idlebeacon/map'
import type { Collection } from '../api/collections'
import DecidePanel from './DecidePanel.vue'
import EditPanel from './EditPanel.vue'
import SelectPanel from './SelectPanel.vue'
import TrayBar from './TrayBar.vue'

// What edits on the map page: the form of one item, the choice of many, what is suggested, and what waits to be saved.
defineProps<{
  map: IdleMap
  collections: readonly Collection[] // that may be edited, or for which edits may be suggested
  target: { collection: string; item: string | null } | null // what the form is about; null for no form
  panel: 'select' | 'decide' | null // what else is open
}>()
const emit = defineEmits<{ close: []; source: [sources: MarkerSource[]]; gather: [] }>()
</script>

<template>
  <EditPanel
    v-if="target"
    :key="`${target.collection}/${target.item}`"
    :map="map"
    :collections="collections"
    :target="target"
    @source="emit('source', $event)"
    @close="emit('close')"
    @gather="emit('gather')"
  />
  <DecidePanel v-else-if="panel === 'decide'" :map="map" @source="emit('source', $event)" @close="emit('close')" />
  <SelectPanel v-else-if="panel === 'select'" :map="map" :collections="collections" @close="emit('close')" />
  <TrayBar />
</template>
