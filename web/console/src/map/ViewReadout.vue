<script setup lang="ts">
import Button from 'primevue/button'
import { onUnmounted, ref } from 'vue'
import Icon from '../parts/Icon.vue'

const props = defineProps<{ parts: { lat: string; lon: string; zoom: string } }>()
const said = ref('')
let timer = 0

async function copy(): Promise<void> {
  const { lat, lon, zoom } = props.parts
  try {
    await navigator.clipboard.writeText(`lat=${lat} lon=${lon} zoom=${zoom}`)
    said.value = 'Copied'
  } catch {
    said.value = 'The browser does not allow copying'
  }
  clearTimeout(timer)
  timer = window.setTimeout(() => (said.value = ''), 2500)
}
onUnmounted(() => clearTimeout(timer))
</script>

<template>
  <div class="readout" role="group" aria-label="Where the map looks">
    <span
      >Zoom <b data-readout="zoom">{{ parts.zoom }}</b></span
    >
    <span
      >Lat <b data-readout="lat">{{ parts.lat }}</b></span
    >
    <span
      >Lon <b data-readout="lon">{{ parts.lon }}</b></span
    >
    <Button text size="small" aria-label="Copy zoom and centre" title="Copy zoom and centre" @click="copy">
      <Icon name="copy" />
    </Button>
    <span v-if="said" role="status" class="said">{{ said }}</span>
  </div>
</template>

<style scoped>
.readout {
  position: absolute;
  right: 12px;
  bottom: 12px;
  display: flex;
  align-items: center;
  gap: 0.8rem;
  padding: 0 0.2rem 0 0.8rem;
  border-radius: 8px;
  background: var(--card);
  border: 1px solid var(--rule);
  font-size: 0.85rem;
  font-variant-numeric: tabular-nums;
}
.said {
  padding-right: 0.6rem;
}
@media (max-width: 700px) {
  .readout {
    bottom: 60px;
    gap: 0.5rem;
  }
}
</style>
