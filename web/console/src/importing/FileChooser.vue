<script setup lang="ts">
// If a file is dropped, or chosen.
const emit = defineEmits<{ choose: [file: File | undefined] }>()
const accepted = '.csv,.tsv,.txt,.json,.geojson,.geojsonl,.geojsons,.kml,.kmz,.gpx,.gz,.zst'
</script>

<template>
  <div class="drop">
    <p>Drop a file here, or</p>
    <label class="pick">
      <input type="file" :accept="accepted" @change="emit('choose', ($event.target as HTMLInputElement).files?.[0])" />
      choose one
    </label>
    <p class="hint">CSV, GeoJSON, KML, KMZ or GPX. You see what is in it before anything is imported.</p>
  </div>
</template>

<style scoped>
.drop {
  display: flex;
  flex-wrap: wrap;
  align-items: baseline;
  gap: 0.5rem;
}
.pick {
  position: relative;
  text-decoration: underline;
  cursor: pointer;
}
.pick input {
  position: absolute;
  inset: 0;
  opacity: 0;
  cursor: pointer;
}
.pick:focus-within {
  outline: 3px solid var(--signal);
}
.hint {
  flex-basis: 100%;
  color: var(--soft);
  font-size: 0.9rem;
}
</style>
