<script setup lang="ts">
import Icon from '../parts/Icon.vue'

// Moves a row of a list up, or takes it out.
defineProps<{ first: boolean; up: string; remove: string }>() // what the buttons do, in words
const emit = defineEmits<{ lift: []; remove: [] }>()
</script>

<template>
  <td class="tools">
    <button type="button" :disabled="first" :aria-label="up" title="Up" @click="emit('lift')"
      ><Icon name="arrow-up"
    /></button>
    <button type="button" :aria-label="remove" title="Remove" @click="emit('remove')"><Icon name="x" /></button>
  </td>
</template>
