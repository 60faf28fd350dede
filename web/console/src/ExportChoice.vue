<script setup lang="ts">
import { exportPath } from './api/client'

// Exports items of a collection: all, or those that the parameters choose.
const props = defineProps<{
  collection: string
  label: string
  name: string
  parameters?: URLSearchParams | undefined
}>()

const formats = {
  csv: 'CSV',
  geojson: 'GeoJSON',
  'geojson-lines': 'GeoJSON, a feature on each line',
  'geojson-seq': 'GeoJSON text sequence',
  kml: 'KML',
  gpx: 'GPX',
}

function exportAs(e: Event): void {
  const select = e.target as HTMLSelectElement
  const link = document.createElement('a')
  link.href = exportPath(props.collection, select.value, props.parameters)
  link.download = ''
  link.click()
  select.value = ''
}
</script>

<template>
  <select :aria-label="name" @change="exportAs">
    <option value="">{{ label }}</option>
    <option v-for="(text, format) in formats" :key="format" :value="format">{{ text }}</option>
  </select>
</template>

<style scoped>
select {
  max-width: 100%;
  padding: 0.35rem 0.3rem;
  border: 1px solid var(--rule);
  border-radius: 5px;
  background: var(--card);
  color: inherit;
  font: inherit;
  font-size: 0.9rem;
}
</style>
