<script setup lang="ts">
import IconPicker from './IconPicker.vue'
import { textOf } from './properties'

// The icon and the colour of one look, in two cells of a table.
defineProps<{
  icon: string | undefined
  colour: string // as it is drawn
  of: string // what the look is of, in words
  none?: string // what no icon of its own is called; it cannot be chosen if that is left out
}>()
const emit = defineEmits<{ icon: [name: string]; colour: [colour: string] }>()
</script>

<template>
  <td
    ><IconPicker :icon="icon" :colour="colour" :label="`Icon of ${of}`" :none="none" @choose="emit('icon', $event)"
  /></td>
  <td
    ><input type="color" :value="colour" :aria-label="`Colour of ${of}`" @change="emit('colour', textOf($event))"
  /></td>
</template>
