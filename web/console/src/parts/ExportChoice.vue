<script setup lang="ts">
import type { Box } from '@idlebeacon/map'
import { ref } from 'vue'
import type { Collection } from '../api/collections'
import { type Chosen, everything, exportLink } from '../api/selection'
import Choice from './Choice.vue'

// Exports items of a collection: all of them, or those that are chosen in a box.
const props = defineProps<{
  collection: Collection
  label: string // what it says before a format is chosen
  name: string
  box?: Box | null
  chosen?: Chosen
}>()

const formats = {
  csv: 'CSV',
  geojson: 'GeoJSON',
  'geojson-lines': 'GeoJSON, a feature on each line',
  'geojson-seq': 'GeoJSON text sequence',
  kml: 'KML',
  gpx: 'GPX',
}
const format = ref('')

function exportAs(chosen: string): void {
  const link = document.createElement('a')
  const categories = props.collection.categories.map((k) => k.category)
  link.href = exportLink(props.collection.id, chosen, props.box ?? null, props.chosen ?? everything, categories)
  link.download = ''
  link.click()
  format.value = '' // so that the same can be chosen again
}
</script>

<template>
  <Choice v-model="format" :options="formats" :placeholder="label" :label="name" @update:model-value="exportAs" />
</template>
