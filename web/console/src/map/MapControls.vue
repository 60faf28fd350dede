<script setup lang="ts">
import Button from 'primevue/button'
import Icon from '../parts/Icon.vue'

// The buttons that move the map.
defineProps<{ data: boolean; start: boolean }>()
const emit = defineEmits<{ zoom: [by: number]; data: []; start: [] }>()
</script>

<template>
  <div class="controls" role="group" aria-label="Move the map">
    <Button aria-label="Zoom in" title="Zoom in" severity="secondary" @click="emit('zoom', 1)">
      <Icon name="plus" />
    </Button>
    <Button aria-label="Zoom out" title="Zoom out" severity="secondary" @click="emit('zoom', -1)">
      <Icon name="minus" />
    </Button>
    <Button aria-label="Whole data" title="Whole data" severity="secondary" :disabled="!data" @click="emit('data')">
      <Icon name="maximize" />
    </Button>
    <Button
      aria-label="Back to start"
      title="Back to start"
      severity="secondary"
      :disabled="!start"
      @click="emit('start')"
    >
      <Icon name="undo" />
    </Button>
  </div>
</template>

<style scoped>
.controls {
  position: absolute;
  top: 12px;
  right: 12px;
  display: flex;
  flex-direction: column;
  gap: 6px;
}
</style>
