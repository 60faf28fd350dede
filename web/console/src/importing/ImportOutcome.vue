<script setup lang="ts">
import Button from 'primevue/button'
import Message from 'primevue/message'
import { type ImportReport, rejectedLink } from '../api/imports'
import Icon from '../parts/Icon.vue'
import { counted, numberText } from '../text/format'
import FileNotes from './FileNotes.vue'

// What an import has done.
defineProps<{ report: ImportReport }>()
const emit = defineEmits<{ show: []; again: [] }>()
</script>

<template>
  <div class="done">
    <Message severity="success" class="said">
      {{ counted(report.rows, 'row', 'rows') }} read: {{ numberText(report.created) }} new,
      {{ numberText(report.replaced) }} replaced, {{ numberText(report.unchanged) }} unchanged,
      {{ numberText(report.rejected) }} rejected.
    </Message>
    <FileNotes :notes="report.notes" :settable="false" />
    <ul v-if="report.errors.length > 0">
      <li v-for="e in report.errors.slice(0, 6)" :key="e.row">row {{ e.row }}: {{ e.reason }}</li>
    </ul>
    <div class="go">
      <Button label="Show on map" @click="emit('show')">
        <template #icon><Icon name="map" /></template>
      </Button>
      <a v-if="report.kept > 0" :href="rejectedLink(report.import ?? '')" download
        ><Icon name="download" /> Rejected rows, to correct and import again</a
      >
      <Button label="Import another file" severity="secondary" text @click="emit('again')" />
    </div>
  </div>
</template>

<style scoped>
.said {
  margin: 0.5rem 0;
}
ul {
  margin: 0.1rem 0 0.4rem;
  padding-inline-start: 1.2rem;
}
.go {
  display: flex;
  flex-wrap: wrap;
  align-items: center;
  gap: 0.8rem;
  margin-top: 0.8rem;
}
</style>
