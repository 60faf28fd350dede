<script setup lang="ts">
// Moves a row of a list up, or takes it out.
defineProps<{ first: boolean; up: string; remove: string }>() // what the buttons do, in words
const emit = defineEmits<{ lift: []; remove: [] }>()
</script>

<template>
  <td class="tools">
    <button type="button" :disabled="first" :aria-label="up" title="Up" @click="emit('lift')"
      ><i class="pi pi-arrow-up" aria-hidden="true"
    /></button>
    <button type="button" :aria-label="remove" title="Remove" @click="emit('remove')"
      ><i class="pi pi-times" aria-hidden="true"
    /></button>
  </td>
</template>
